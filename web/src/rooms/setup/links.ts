/** Links between the pages of the set-up room. */
export const setupLinks: [to: string, label: string][] = [
  ["/setup", "Company"],
  ["/setup/people", "People"],
  ["/setup/limits", "Limits and rights"],
  ["/setup/numbers", "Numbers"],
  ["/setup/periods", "Periods"],
  ["/setup/record", "Record"],
];
