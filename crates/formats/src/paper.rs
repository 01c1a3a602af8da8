//! Papers as HTML files that stand alone: no script, no font or picture from elsewhere, printable on
//! A4 and Letter.

use std::fmt::Write as _;

use till_core::calendar::words;
use till_core::invoice::{InvoiceDocument, InvoiceLine};
use till_core::money::Money;

/// Who sends it and who gets it.
#[derive(Debug, Clone)]
pub struct Parties<'a> {
    /// The company.
    pub company: &'a str,
    /// The customer's number.
    pub number: &'a str,
    /// The customer's name.
    pub name: &'a str,
    /// The customer's address.
    pub address: &'a str,
    /// The customer's tax id.
    pub tax_id: Option<&'a str>,
}

/// What a paper is.
#[derive(Debug, Clone, Copy)]
pub enum Kind<'a> {
    /// An invoice.
    Invoice,
    /// A credit memo on an invoice.
    CreditMemo {
        /// That invoice.
        over: &'a str,
        /// Whether it takes all of it back.
        whole: bool,
        /// Why.
        reason: &'a str,
    },
}

const STYLE: &str = "@page{margin:18mm 16mm}body{font:10.5pt/1.4 'Source Sans 3','Noto Sans',Helvetica,Arial,sans-serif;color:#242a1e;max-width:180mm;margin:12mm auto;padding:0 6mm}header{display:flex;justify-content:space-between;margin-bottom:12mm}.company{font-weight:700;font-size:13pt}h1{font-size:20pt;margin:0 0 3mm}dl{display:grid;grid-template-columns:auto auto;gap:1mm 6mm;margin:0}dt{color:#555a4a}dd{margin:0;text-align:right}table{width:100%;border-collapse:collapse;font-variant-numeric:tabular-nums}th{text-align:left;color:#555a4a;border-bottom:1pt solid #242a1e;padding:1.5mm 2mm}td{padding:1.6mm 2mm;border-bottom:.5pt solid #c8ba9c;vertical-align:top}.r{text-align:right;white-space:nowrap}.from td{font-weight:600;background:#fbf5e6}.dim{color:#555a4a;font-size:9pt}tfoot td{border-bottom:0;padding:1mm 2mm}.due td{font-size:13pt;font-weight:700;border-top:1.5pt solid #242a1e}.text{white-space:pre-line}@media print{body{margin:0;padding:0;max-width:none}}";

/// A document as a page that stands alone.
pub fn html(
    kind: Kind<'_>,
    number: &str,
    date: chrono::NaiveDate,
    parties: &Parties<'_>,
    document: &InvoiceDocument,
) -> String {
    let sign = if matches!(kind, Kind::Invoice) { 1 } else { -1 };
    let amount = |money: Money| document.currency.grouped(Money(money.0 * sign));
    let title = match kind {
        Kind::Invoice => format!("Invoice {number}"),
        Kind::CreditMemo { .. } => format!("Credit memo {number}"),
    };
    let mut page = String::with_capacity(8_000);
    // Writing to a String never fails.
    let _ = write!(
        page,
        "<!doctype html>\n<html lang=\"en\"><head><meta charset=\"utf-8\"><title>{title}</title><style>{STYLE}</style></head><body>\n\
         <header><div><div class=\"company\">{}</div><p class=\"text\">{}\n{}</p></div><div><h1>{title}</h1><dl>",
        escape(parties.company),
        escape(parties.name),
        escape(parties.address).replace(", ", "\n"),
    );
    let mut fact = |label: &str, value: &str| {
        let _ = write!(page, "<dt>{label}</dt><dd>{}</dd>", escape(value));
    };
    fact("Date", &words(date));
    match kind {
        Kind::Invoice => {
            fact("Due", &words(document.due_date));
            fact("Tax date", &words(document.tax_date));
        }
        Kind::CreditMemo { over, whole, .. } => fact(if whole { "Over the whole of" } else { "On invoice" }, over),
    }
    fact("Customer", parties.number);
    if let Some(id) = parties.tax_id {
        fact("Your tax id", id);
    }
    page.push_str("</dl></div></header>\n");
    let mut text = |text: Option<&str>| {
        if let Some(text) = text {
            let _ = writeln!(page, "<p class=\"text\">{}</p>", escape(text));
        }
    };
    match kind {
        Kind::Invoice => text(document.text_above.as_deref()),
        Kind::CreditMemo { reason, .. } => text(Some(reason)),
    }
    let priced = if document.gross_priced { "With tax" } else { "Net" };
    let _ = writeln!(
        page,
        "<table><thead><tr><th>Item</th><th class=\"r\">Quantity</th><th class=\"r\">Price</th><th class=\"r\">Off</th>\
         <th class=\"r\">{priced} {}</th></tr></thead>",
        document.currency
    );
    let mut heading = None;
    for line in &document.lines {
        let group = group_heading(line);
        if heading.as_ref() != Some(&group) {
            if !group.is_empty() {
                let _ = writeln!(page, "<tr class=\"from\"><td colspan=\"5\">{}</td></tr>", escape(&group));
            }
            heading = Some(group);
        }
        let rest = if line.still_to_come.is_positive() && sign == 1 {
            format!("<div class=\"dim\">{} of {} still to come</div>", line.still_to_come, line.ordered)
        } else {
            String::new()
        };
        // An amount off the price has no quantity.
        let (quantity, price) = match line.quantity.is_zero() {
            true => ("off the price".to_owned(), String::new()),
            false => (format!("{} {}", line.quantity, escape(&line.unit)), line.unit_price.grouped(2)),
        };
        let off = if line.discount.is_zero() { String::new() } else { format!("{} %", line.discount.percent()) };
        let _ = writeln!(
            page,
            "<tr><td>{} {}{rest}</td><td class=\"r\">{quantity}</td><td class=\"r\">{price}</td><td class=\"r\">{off}</td><td class=\"r\">{}</td></tr>",
            escape(&line.code),
            escape(&line.description),
            amount(line.amount)
        );
    }
    page.push_str("<tfoot>");
    let mut sum = |class: &str, label: &str, money: Money| {
        let _ = writeln!(
            page,
            "<tr class=\"{class}\"><td colspan=\"4\" class=\"r\">{}</td><td class=\"r\">{}</td></tr>",
            escape(label),
            amount(money)
        );
    };
    if let Some(discount) = &document.discount {
        let share = discount.percent.map(|percent| format!(" {} %", percent.percent())).unwrap_or_default();
        sum("", "Lines", document.lines_total);
        sum("", &format!("Less{share}, {}", discount.reason), -discount.amount);
    }
    sum("", "Net", document.net);
    for tax in &document.taxes {
        sum("", &format!("{} of {}", tax.label(), amount(tax.base)), tax.tax);
    }
    let last = match kind {
        Kind::Invoice => format!("Due {}, {}", words(document.due_date), document.currency),
        Kind::CreditMemo { .. } => format!("Credit, {}", document.currency),
    };
    sum("due", &last, document.total);
    page.push_str("</tfoot></table>\n");
    if let (Kind::Invoice, Some(early)) = (kind, &document.early) {
        let _ = writeln!(
            page,
            "<p class=\"dim\">Paid by {}, {} less.</p>",
            words(early.until),
            document.currency.grouped(early.amount)
        );
    }
    if let (Kind::Invoice, Some(text)) = (kind, &document.text_below) {
        let _ = writeln!(page, "<p class=\"text\">{}</p>", escape(text));
    }
    page.push_str("</body></html>\n");
    page
}

/// “Shipment S-1 of 3 Mar 2026, order O-1, your order PO 1”.
fn group_heading(line: &InvoiceLine) -> String {
    let source = &line.source;
    let order = source.order_number().map(|number| format!("rder {number}")).unwrap_or_default();
    let mut heading = match (source.shipment(), source.shipped_on()) {
        (Some((_, number)), Some(day)) => format!("Shipment {number} of {}, o{order}", words(day)),
        _ if !order.is_empty() => format!("O{order}"),
        _ => return String::new(),
    };
    if let Some(theirs) = source.customer_order_number() {
        heading.push_str(&format!(", your order {theirs}"));
    }
    heading
}

/// Text as HTML shows it.
fn escape(text: &str) -> String {
    text.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;").replace('"', "&quot;")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn nothing_typed_becomes_markup() {
        assert_eq!(escape("<b>\"A & B\"</b>"), "&lt;b&gt;&quot;A &amp; B&quot;&lt;/b&gt;");
    }
}
