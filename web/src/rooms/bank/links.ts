/** Where money that comes in is worked on. */
export const moneyLinks: [to: string, label: string][] = [
  ["/receipts", "Receipts"],
  ["/bank", "Bank statements"],
];
