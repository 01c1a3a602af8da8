/** Where money that comes in is worked on. */
export const moneyLinks: [to: string, label: string][] = [
  ["/receipts", "Receipts"],
  ["/bank-slips", "Bank deposit slips"],
  ["/bank", "Bank statements"],
  ["/disputes", "Disputes"],
];
