/** Links between the lists of the order room. */
export const orderLinks: [to: string, label: string][] = [
  ["/orders", "Orders"],
  ["/orders/to-finish", "To finish"],
  ["/orders/lines", "Open lines"],
  ["/orders/quotes", "Quotes"],
  ["/orders/blanket", "Blanket orders"],
  ["/orders/files", "Files"],
];
