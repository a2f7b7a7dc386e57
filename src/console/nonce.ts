/** The page’s content security policy lets only styles with this nonce in. */
export const nonce = document.querySelector<HTMLMetaElement>('meta[property="csp-nonce"]')?.nonce ?? '';
