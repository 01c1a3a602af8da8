/** Links between the pages of the set-up room. */
export const setupLinks: [to: string, label: string][] = [
  ["/setup", "Company"],
  ["/setup/goods", "Goods and tax"],
  ["/setup/accounts", "Accounts"],
  ["/setup/money", "Money"],
  ["/setup/fields", "Custom fields"],
  ["/setup/people", "People"],
  ["/setup/limits", "Limits"],
  ["/setup/numbers", "Numbers"],
  ["/setup/periods", "Periods"],
  ["/setup/opening", "Opening"],
  ["/setup/returns", "Returns"],
  ["/setup/mail", "Mail"],
  ["/setup/record", "Record"],
];
