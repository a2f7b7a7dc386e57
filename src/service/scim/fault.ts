/** `scimType` of RFC 7644, table 9. */
export type ScimType =
  | 'invalidFilter'
  | 'uniqueness'
  | 'mutability'
  | 'invalidSyntax'
  | 'invalidPath'
  | 'noTarget'
  | 'invalidValue';

export const ERROR_SCHEMA = 'urn:ietf:params:scim:api:messages:2.0:Error';

/** An error as a provider gets it (RFC 7644, 3.12). */
export class ScimFault extends Error {
  override readonly name = 'ScimFault';
  readonly status: number;
  readonly scimType: ScimType | null;

  constructor(status: number, scimType: ScimType | null, detail: string) {
    super(detail);
    this.status = status;
    this.scimType = scimType;
  }

  document(): object {
    return {
      schemas: [ERROR_SCHEMA],
      status: String(this.status),
      ...(this.scimType === null ? {} : { scimType: this.scimType }),
      detail: this.message,
    };
  }
}

export function notThere(): ScimFault {
  return new ScimFault(404, null, 'There is no such resource.');
}
