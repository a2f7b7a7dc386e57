/** A padlock, open or shut; beside a word that says the same. */
export function Padlock({ open }: { open: boolean }) {
  return (
    <svg
      aria-hidden
      width="14"
      height="14"

      viewBox="0 0 14 14"
      fill="none"
      stroke="currentColor"
      strokeWidth="1.6"
    >
      <path d={open ? 'M4 6 V4 a3 3 0 0 1 5.8 -1' : 'M4 6 V4 a3 3 0 0 1 6 0 V6'} strokeLinecap="round" />
      <rect x="2.5" y="6" width="9" height="6.5" rx="1.2" fill="currentColor" stroke="none" />
    </svg>
  );
}
