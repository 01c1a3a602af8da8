//! Papers as HTML files that stand alone: no script, no font or picture from elsewhere, printable on
//! A4 and Letter.

use std::fmt::Write as _;

use till_core::calendar::words;
use till_core::deposit::HeldTax;
use till_core::fixed::Quantity;
use till_core::invoice::{InvoiceDocument, InvoiceLine};
use till_core::money::{Currency, Money};
use till_core::payment_code::payment_code;
use till_core::prepayment::using::by_document;
use till_core::settle::{creditor_reference, grouped_reference};

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
    Invoice {
        /// The credit memo that canceled it, where one did.
        canceled_by: Option<&'a str>,
        /// The company's bank account; none where it said none.
        pay_to: Option<&'a str>,
    },
    /// A request for payment in advance: no invoice before it is paid.
    PaymentRequest,
    /// A credit memo on an invoice.
    CreditMemo {
        /// That invoice.
        over: Option<&'a str>,
        /// Whether it takes all of it back.
        whole: bool,
        /// Why.
        reason: &'a str,
    },
}

const STYLE: &str = "@page{margin:18mm 16mm}body{font:10.5pt/1.4 'Source Sans 3 Variable','Source Sans 3','Noto Sans',Helvetica,Arial,sans-serif;color:#242a1e;max-width:180mm;margin:12mm auto;padding:0 6mm}header{display:flex;justify-content:space-between;margin-bottom:12mm}.company{font-weight:700;font-size:13pt}h1{font-size:20pt;margin:0 0 3mm}h2{font-size:11.5pt;margin:9mm 0 2mm}dl{display:grid;grid-template-columns:auto auto;gap:1mm 6mm;margin:0}dt{color:#555a4a}dd{margin:0;text-align:right}table{width:100%;border-collapse:collapse;font-variant-numeric:tabular-nums}th{text-align:left;color:#555a4a;border-bottom:1pt solid #242a1e;padding:1.5mm 2mm}td{padding:1.6mm 2mm;border-bottom:.5pt solid #c8ba9c;vertical-align:top}.r{text-align:right;white-space:nowrap}.from td{font-weight:600;background:#fbf5e6}.dim{color:#555a4a;font-size:9pt}tfoot td{border-bottom:0;padding:1mm 2mm}.due td{font-size:13pt;font-weight:700;border-top:1.5pt solid #242a1e}.text{white-space:pre-line}.pay{display:flex;gap:6mm;align-items:center;margin-top:8mm;break-inside:avoid}.code svg{width:34mm;height:34mm;display:block}@media print{body{margin:0;padding:0;max-width:none}}";

/// A document as a page that stands alone.
pub fn html(
    kind: Kind<'_>,
    number: &str,
    date: chrono::NaiveDate,
    parties: &Parties<'_>,
    document: &InvoiceDocument,
) -> String {
    let mut page = String::with_capacity(8_000);
    head(&mut page, kind, (number, date), parties, document);
    match kind {
        Kind::Invoice { .. } | Kind::PaymentRequest => text(&mut page, document.text_above.as_deref()),
        Kind::CreditMemo { reason, .. } => text(&mut page, Some(reason)),
    }
    match (kind, document.is_prepayment()) {
        (Kind::Invoice { .. } | Kind::PaymentRequest, true) => advance(&mut page, document),
        _ => lines(&mut page, kind, document),
    }
    sums(&mut page, kind, document);
    page.push_str("</table>\n");
    if let (Kind::Invoice { .. } | Kind::PaymentRequest, true) = (kind, document.is_prepayment()) {
        annex(&mut page, kind, document);
    }
    if let Kind::Invoice { .. } = kind {
        if let Some(early) = &document.early {
            let less = document.currency.grouped(early.amount);
            add(&mut page, format_args!("<p class=\"dim\">Paid by {}, {less} less.</p>\n", words(early.until)));
        }
        text(&mut page, document.text_below.as_deref());
        pay(&mut page, kind, number, parties, document);
    }
    page.push_str("</body></html>\n");
    page
}

/// Writing to a String never fails.
fn add(page: &mut String, what: std::fmt::Arguments<'_>) {
    let _ = page.write_fmt(what);
}

fn text(page: &mut String, text: Option<&str>) {
    if let Some(text) = text {
        add(page, format_args!("<p class=\"text\">{}</p>\n", escape(text)));
    }
}

/// Where it is paid to, and a picture that the payer's banking program reads.
fn pay(page: &mut String, kind: Kind<'_>, number: &str, parties: &Parties<'_>, document: &InvoiceDocument) {
    let Kind::Invoice { canceled_by: None, pay_to: Some(account) } = kind else { return };
    if !document.due.is_positive() {
        return;
    }
    let reference = creditor_reference(number).unwrap_or_default();
    page.push_str("<section class=\"pay\">");
    if let Some(code) = payment_code(parties.company, account, (document.due, document.currency), &reference)
        && let Some(picture) = picture(&code)
    {
        add(page, format_args!("<div class=\"code\">{picture}</div>"));
    }
    add(
        page,
        format_args!(
            "<div>Please pay <b>{} {}</b> to<br>{}<br>{}",
            document.currency,
            document.currency.grouped(document.due),
            escape(parties.company),
            escape(&grouped_reference(account))
        ),
    );
    if !reference.is_empty() {
        add(page, format_args!("<br>with the reference <b>{}</b>", grouped_reference(&reference)));
    }
    page.push_str("</div></section>\n");
}

/// A text as a picture of squares, with room around it. None where it is too long for one.
/// *Source: ISO/IEC 18004 by the library; error correction M and four squares of room, as EPC069-12 asks (from memory).*
fn picture(text: &str) -> Option<String> {
    let code = qrcode::QrCode::with_error_correction_level(text, qrcode::EcLevel::M).ok()?;
    let svg = code.render::<qrcode::render::svg::Color<'_>>().quiet_zone(true).min_dimensions(120, 120).build();
    // The page stands alone: the picture is a part of it, not a document of its own.
    let from = svg.find("<svg")?;
    Some(svg[from..].replacen("<svg", "<svg role=\"img\" aria-label=\"Payment code\"", 1))
}

/// What takes back says its amounts with a minus.
fn amount(kind: Kind<'_>, document: &InvoiceDocument, money: Money) -> String {
    document.currency.grouped(if matches!(kind, Kind::CreditMemo { .. }) { -money } else { money })
}

/// From whom, to whom, and what the paper is.
fn head(
    page: &mut String,
    kind: Kind<'_>,
    (number, date): (&str, chrono::NaiveDate),
    parties: &Parties<'_>,
    document: &InvoiceDocument,
) {
    let title = match kind {
        Kind::Invoice { .. } if document.is_prepayment() => format!("Prepayment invoice {number}"),
        Kind::Invoice { .. } => format!("Invoice {number}"),
        Kind::PaymentRequest => format!("Payment request {number}"),
        Kind::CreditMemo { .. } => format!("Credit memo {number}"),
    };
    opening(page, &title, parties);
    let mut fact = |label: &str, value: &str| add(page, format_args!("<dt>{label}</dt><dd>{}</dd>", escape(value)));
    fact("Date", &words(date));
    match kind {
        Kind::Invoice { canceled_by, .. } => {
            if let Some(memo) = canceled_by {
                fact("Canceled by", memo);
            }
            fact("Due", &words(document.due_date));
            fact("Tax date", &words(document.tax_date));
            if let Some(reference) = creditor_reference(number) {
                fact("Payment reference", &grouped_reference(&reference));
            }
        }
        Kind::PaymentRequest => fact("Please pay by", &words(document.due_date)),
        Kind::CreditMemo { over: Some(over), whole, .. } => {
            fact(if whole { "Over the whole of" } else { "On invoice" }, over);
        }
        Kind::CreditMemo { over: None, .. } => {}
    }
    fact("Customer", parties.number);
    if let Some(id) = parties.tax_id {
        fact("Your tax id", id);
    }
    page.push_str("</dl></div></header>\n");
}

/// The lines, under the shipment or order they come from.
fn lines(page: &mut String, kind: Kind<'_>, document: &InvoiceDocument) {
    let priced = if document.gross_priced { "With tax" } else { "Net" };
    add(
        page,
        format_args!(
            "<table><thead><tr><th>Item</th><th class=\"r\">Quantity</th><th class=\"r\">Price</th><th class=\"r\">Off</th>\
             <th class=\"r\">{priced} {}</th></tr></thead>\n",
            document.currency
        ),
    );
    let mut heading = None;
    for line in &document.lines {
        let group = other_way(kind, line).map_or_else(|| group_heading(line), str::to_owned);
        if heading.as_ref() != Some(&group) {
            if !group.is_empty() {
                add(page, format_args!("<tr class=\"from\"><td colspan=\"5\">{}</td></tr>\n", escape(&group)));
            }
            heading = Some(group);
        }
        let rest = if line.still_to_come.is_positive() && matches!(kind, Kind::Invoice { .. }) {
            format!("<div class=\"dim\">{} of {} still to come</div>", line.still_to_come, line.ordered)
        } else {
            String::new()
        };
        // An amount off the price has no quantity.
        let (quantity, price) = match line.quantity.is_zero() {
            true if line.source.in_advance().is_some() => ("in advance".to_owned(), String::new()),
            true => ("off the price".to_owned(), String::new()),
            false => {
                // A credit memo says quantities without its minus, whichever way they go.
                let goes_out = matches!(kind, Kind::CreditMemo { .. }) && other_way(kind, line).is_some();
                let quantity =
                    Quantity::from_scaled(if goes_out { -line.quantity.scaled() } else { line.quantity.scaled() });
                (format!("{quantity} {}", escape(&line.unit)), line.unit_price.grouped(2))
            }
        };
        let off = match line.discount.is_zero() || line.quantity.is_zero() {
            true => String::new(),
            false => format!("{} %", line.discount.percent()),
        };
        add(
            page,
            format_args!(
                "<tr><td>{} {}{rest}</td><td class=\"r\">{quantity}</td><td class=\"r\">{price}</td><td class=\"r\">{off}</td><td class=\"r\">{}</td></tr>\n",
                escape(&line.code),
                escape(&line.description),
                amount(kind, document, line.amount)
            ),
        );
    }
}

/// The heading of what goes the other way than the rest: goods out and charges on a credit memo, goods back on the invoice of
/// an exchange.
fn other_way(kind: Kind<'_>, line: &InvoiceLine) -> Option<&'static str> {
    match kind {
        Kind::CreditMemo { .. } if line.amount.0 < 0 => Some("Goes out, or is charged"),
        Kind::Invoice { .. } if line.quantity.scaled() < 0 => Some("Came back"),
        _ => None,
    }
}

/// What a prepayment invoice asks for: one sum by tax code; the lines follow as an annex.
fn advance(page: &mut String, document: &InvoiceDocument) {
    let mut orders: Vec<String> = Vec::new();
    for line in &document.lines {
        let order = group_heading(line);
        if !orders.contains(&order) {
            orders.push(order);
        }
    }
    let heads = "<th>Payment in advance</th><th></th><th></th><th></th>";
    add(page, format_args!("<table><thead><tr>{heads}<th class=\"r\">Net {}</th></tr></thead>\n", document.currency));
    let (orders, net) = (escape(&orders.join("; ")), document.currency.grouped(document.net));
    add(page, format_args!("<tr><td colspan=\"4\">{orders}</td><td class=\"r\">{net}</td></tr>\n"));
}

/// The lines a payment in advance is asked on.
fn annex(page: &mut String, kind: Kind<'_>, document: &InvoiceDocument) {
    let priced = if document.gross_priced { "with tax" } else { "net" };
    add(
        page,
        format_args!(
            "<h2>What is billed in advance</h2>\n<table><thead><tr><th>Item</th><th class=\"r\">Of</th><th class=\"r\">Share</th>\
             <th>Tax</th><th class=\"r\">In advance, {priced} {}</th></tr></thead>\n",
            document.currency
        ),
    );
    for line in &document.lines {
        let Some((_, asks)) = line.source.in_advance() else { continue };
        let share = asks.percent.map(|percent| format!("{}%", percent.percent())).unwrap_or_default();
        let (of, now) = (document.currency.grouped(asks.of), document.currency.grouped(line.amount));
        add(
            page,
            format_args!(
                "<tr><td>{} {}</td><td class=\"r\">{of}</td><td class=\"r\">{share}</td><td>{}%</td><td class=\"r\">{now}</td></tr>\n",
                escape(&line.code),
                escape(&line.description),
                line.tax.rate.percent()
            ),
        );
    }
    page.push_str("</table>\n");
    page.push_str(match kind {
        Kind::PaymentRequest => "<p class=\"dim\">This is no invoice. You get one over the advance payment once it has come.</p>\n",
        _ => "<p class=\"dim\">This is the invoice over the advance payment. It is taken off the invoice over the goods, with its tax.</p>\n",
    });
}

/// Discount, net, tax by rate and the total.
fn sums(page: &mut String, kind: Kind<'_>, document: &InvoiceDocument) {
    page.push_str("<tfoot>");
    let mut sum = |class: &str, label: &str, money: Money| {
        let (label, money) = (escape(label), amount(kind, document, money));
        add(
            page,
            format_args!(
                "<tr class=\"{class}\"><td colspan=\"4\" class=\"r\">{label}</td><td class=\"r\">{money}</td></tr>\n"
            ),
        );
    };
    if let Some(discount) = &document.discount {
        let share = discount.percent.map(|percent| format!(" {} %", percent.percent())).unwrap_or_default();
        sum("", "Lines", document.lines_total);
        sum("", &format!("Less{share}, {}", discount.reason), -discount.amount);
    }
    let prepaid = by_document(document);
    if !prepaid.is_empty() && document.discount.is_none() {
        sum("", "Lines", document.lines_total);
    }
    for (invoice, part) in prepaid {
        let label = format!("Less prepayment invoice {}, its tax billed there", invoice.number);
        sum("", &label, -part.priced(document.gross_priced));
    }
    sum("", "Net", document.net);
    for tax in &document.taxes {
        sum("", &format!("{} of {}", tax.label(), amount(kind, document, tax.base)), tax.tax);
    }
    let last = match kind {
        Kind::Invoice { .. } => format!("Due {}, {}", words(document.due_date), document.currency),
        Kind::PaymentRequest => format!("Please pay by {}, {}", words(document.due_date), document.currency),
        Kind::CreditMemo { .. } => format!("Credit, {}", document.currency),
    };
    if let (Kind::Invoice { .. }, false) = (kind, document.deposits.is_empty()) {
        sum("", "Total", document.total);
        for deposit in &document.deposits {
            let tax: Money = deposit.taxes.iter().map(|held| held.tax).sum();
            let of_it = match tax.is_zero() {
                true => String::new(),
                false => format!(", with {} tax, as on its receipt", document.currency.grouped(tax)),
            };
            sum("", &format!("Less deposit {}{of_it}", deposit.document.number), -deposit.amount);
        }
        let last = match document.due.is_zero() {
            true => format!("Balance due, {}", document.currency),
            false => format!("Balance due {}, {}", words(document.due_date), document.currency),
        };
        sum("due", &last, document.due);
    } else {
        sum("due", &last, document.total);
    }
    page.push_str("</tfoot>");
}

/// What may come back, on a return slip.
#[derive(Debug, Clone)]
pub struct SlipLine<'a> {
    /// The item's code.
    pub code: &'a str,
    /// What it is.
    pub description: &'a str,
    /// How much may come back.
    pub quantity: Quantity,
    /// The unit it was sold in.
    pub unit: &'a str,
    /// The invoice it was billed on, or the shipment it left with; empty where no document is known.
    pub document: &'a str,
    /// Why it comes back.
    pub reason: &'a str,
}

/// What the slip says that travels with goods that come back.
#[derive(Debug, Clone)]
pub struct ReturnSlip<'a> {
    /// Whether something of it was billed, or is to be credited.
    pub billed: bool,
    /// Number of the return.
    pub number: &'a str,
    /// When it was authorized.
    pub authorized_on: chrono::NaiveDate,
    /// The last day it may arrive on.
    pub expires_on: chrono::NaiveDate,
    /// The place it is to arrive at.
    pub to: &'a str,
    /// What the customer calls it.
    pub reference: Option<&'a str>,
    /// Whether nothing may arrive on it any more.
    pub over: bool,
    /// What may come back.
    pub lines: &'a [SlipLine<'a>],
}

/// A return slip as a page that stands alone. It says no prices: it lies in the box.
pub fn return_slip_html(slip: &ReturnSlip<'_>, parties: &Parties<'_>) -> String {
    let mut page = String::with_capacity(4_000);
    opening(&mut page, &format!("Return slip {}", slip.number), parties);
    let mut fact =
        |label: &str, value: &str| add(&mut page, format_args!("<dt>{label}</dt><dd>{}</dd>", escape(value)));
    fact("Date", &words(slip.authorized_on));
    fact("Customer", parties.number);
    if let Some(reference) = slip.reference {
        fact("Your reference", reference);
    }
    fact("Please send it to", slip.to);
    fact("To arrive by", &words(slip.expires_on));
    page.push_str("</dl></div></header>\n");
    let says = match slip.over {
        true => "This return is over: please do not send anything on it.".to_owned(),
        false => format!(
            "Please pack the goods well, put this slip in the box and write {} on the outside. {}",
            escape(slip.number),
            match slip.billed {
                true => "We credit what arrives after we have inspected it.",
                false => "What arrives we do not bill.",
            }
        ),
    };
    add(&mut page, format_args!("<p class=\"text\">{says}</p>\n"));
    page.push_str(
        "<table><thead><tr><th>Item</th><th>Reason</th><th>Document</th><th class=\"r\">Quantity</th><th class=\"r\">Sent</th></tr></thead>\n",
    );
    for line in slip.lines {
        add(
            &mut page,
            format_args!(
                "<tr><td>{} {}</td><td>{}</td><td>{}</td><td class=\"r\">{} {}</td><td class=\"r\">______</td></tr>\n",
                escape(line.code),
                escape(line.description),
                escape(line.reason),
                escape(line.document),
                line.quantity,
                escape(line.unit)
            ),
        );
    }
    page.push_str("</table>\n</body></html>\n");
    page
}

/// What the receipt of a deposit says.
#[derive(Debug, Clone)]
pub struct DepositPaper<'a> {
    /// Its number.
    pub number: &'a str,
    /// The day the money came.
    pub date: chrono::NaiveDate,
    /// What it is for, as “order O-1”; none on account.
    pub target: Option<&'a str>,
    /// How it was paid.
    pub method: &'a str,
    /// Check number, words of the transfer.
    pub reference: Option<&'a str>,
    /// Its currency.
    pub currency: Currency,
    /// All of it.
    pub amount: Money,
    /// Tax by code, where it was due as the money came in.
    pub taxes: &'a [HeldTax],
    /// Whether it was taken back as typed in error.
    pub reversed: bool,
}

/// The receipt of a deposit as a page that stands alone. Where its tax was due as the money came in it is the invoice
/// over the advance (UNCL1001 code 386, from memory): tax by code, to be taken off the invoice over the goods.
pub fn deposit_html(paper: &DepositPaper<'_>, parties: &Parties<'_>) -> String {
    let title = format!("Deposit receipt {}", paper.number);
    let mut page = String::with_capacity(4_000);
    opening(&mut page, &title, parties);
    let mut fact =
        |label: &str, value: &str| add(&mut page, format_args!("<dt>{label}</dt><dd>{}</dd>", escape(value)));
    fact("Date", &words(paper.date));
    fact("Customer", parties.number);
    if let Some(id) = parties.tax_id {
        fact("Your tax id", id);
    }
    page.push_str("</dl></div></header>\n");
    let target = match paper.target {
        Some(target) => escape(target),
        None => "your account".to_owned(),
    };
    let reference = paper.reference.map(|text| format!(", {}", escape(text))).unwrap_or_default();
    let thanks = match paper.reversed {
        true => "This receipt was issued in error and is void.".to_owned(),
        false => format!(
            "We received {} {} as a deposit for {target}, paid by {}{reference}. It is taken off the invoice.",
            paper.currency.grouped(paper.amount),
            paper.currency,
            escape(&paper.method.to_lowercase())
        ),
    };
    add(&mut page, format_args!("<p class=\"text\">{thanks}</p>\n"));
    add(
        &mut page,
        format_args!(
            "<table><thead><tr><th>Deposit</th><th class=\"r\">Net {0}</th><th class=\"r\">Tax {0}</th><th class=\"r\">With tax {0}</th></tr></thead>\n",
            paper.currency
        ),
    );
    let mut row = |label: &str, net: Money, tax: Money| {
        let [net, tax, gross] = [net, tax, net + tax].map(|money| paper.currency.grouped(money));
        add(
            &mut page,
            format_args!(
                "<tr><td>{}</td><td class=\"r\">{net}</td><td class=\"r\">{tax}</td><td class=\"r\">{gross}</td></tr>\n",
                escape(label)
            ),
        );
    };
    for held in paper.taxes {
        row(&format!("Tax code {}, {}%", held.rate.code, held.rate.rate.percent()), held.net, held.tax);
    }
    let total = paper.currency.grouped(paper.amount);
    add(
        &mut page,
        format_args!(
            "<tfoot><tr class=\"due\"><td colspan=\"3\" class=\"r\">Received, {}</td><td class=\"r\">{total}</td></tr></tfoot></table>\n",
            paper.currency
        ),
    );
    page.push_str(match paper.taxes.is_empty() {
        true => "<p class=\"dim\">Tax is due with the invoice over the goods.</p>\n",
        false => "<p class=\"dim\">This is the invoice over the advance payment. Its tax is not charged again on the invoice over the goods.</p>\n",
    });
    page.push_str("</body></html>\n");
    page
}

/// From whom and to whom.
fn opening(page: &mut String, title: &str, parties: &Parties<'_>) {
    add(
        page,
        format_args!(
            "<!doctype html>\n<html lang=\"en\"><head><meta charset=\"utf-8\"><title>{title}</title><style>{STYLE}</style></head><body>\n\
             <header><div><div class=\"company\">{}</div><p class=\"text\">{}\n{}</p></div><div><h1>{title}</h1><dl>",
            escape(parties.company),
            escape(parties.name),
            escape(parties.address).replace(", ", "\n"),
        ),
    );
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
    #![allow(clippy::unwrap_used)]

    use super::*;
    use till_core::calendar::{DocumentDate, Terms};
    use till_core::deposit::split_by_code;
    use till_core::deposit::using::DepositUsed;
    use till_core::fixed::{ExchangeRate, Rate, UnitPrice};
    use till_core::ids::{CustomerId, DocumentKind, DocumentRef, OpenItemId, OrderId, OrderLineId, PrepaidId};
    use till_core::invoice::{ItemKind, LineSource};
    use till_core::marks::Marks;
    use till_core::money::Currency;
    use till_core::prepayment::using::PrepaidUsed;
    use till_core::prepayment::{Asks, Part};
    use till_core::tax::{TaxCategory, TaxComputed, TaxLine, TaxRate};

    /// Two at 59.00 less 5 %, of which 23 % is tax; of four ordered two are still to come.
    fn document() -> InvoiceDocument {
        let day = |text: &str| text.parse::<chrono::NaiveDate>().unwrap();
        let posted = DocumentDate { date: day("2026-03-18"), typed: true };
        let rate =
            TaxRate { code: "S23".to_owned(), category: TaxCategory::S, rate: Rate::from_percent("23").unwrap() };
        let line = InvoiceLine {
            source: LineSource::Ordered {
                order: OrderId(1),
                order_number: "O-1".to_owned(),
                customer_order_number: Some("PO <7>".to_owned()),
                order_line: OrderLineId(1),
            },
            item: None,
            account: None,
            code: "POT".to_owned(),
            description: "Pot & lid".to_owned(),
            unit: "pc".to_owned(),
            ordered: Quantity::from_whole(4),
            billed_before: Quantity::ZERO,
            quantity: Quantity::from_whole(2),
            unbilled: Quantity::from_whole(2),
            still_to_come: Quantity::from_whole(2),
            unit_price: "59".parse().unwrap(),
            order_price: "59".parse().unwrap(),
            price_reason: None,
            list_price: "59".parse().unwrap(),
            discount: Rate::from_percent("5").unwrap(),
            discount_reason: None,
            surcharge: UnitPrice::ZERO,
            surcharge_name: None,
            price_steps: Vec::new(),
            marks: Marks::default(),
            kind: ItemKind::Goods,
            prepaid: Vec::new(),
            full: Money(11_800),
            amount: Money(11_210),
            off: Money::ZERO,
            net: Money(11_210),
            tax: rate.clone(),
            tax_date: posted.date,
            order_tax_code: None,
            tax_reason: None,
        };
        let terms = Terms::net_days(30);
        InvoiceDocument {
            customer: CustomerId(1),
            currency: Currency::of("EUR").unwrap(),
            rate: ExchangeRate::ONE,
            document_date: posted,
            posting_date: posted,
            tax_date: posted.date,
            due_date: terms.due_date(posted.date),
            due_parts: terms.schedule(posted.date, Money(13_788)),
            early: None,
            terms,
            text_above: Some("As agreed.".to_owned()),
            text_below: Some("With thanks.".to_owned()),
            gross_priced: false,
            tax_computed: TaxComputed::PerDocument,
            lines: vec![line],
            lines_total: Money(11_210),
            discount: None,
            taxes: vec![TaxLine { rate, base: Money(11_210), tax: Money(2_578) }],
            net: Money(11_210),
            tax: Money(2_578),
            total: Money(13_788),
            total_base: Money(13_788),
            deposits: Vec::new(),
            due: Money(13_788),
            order_shares: Vec::new(),
        }
    }

    fn page(kind: Kind<'_>, number: &str, document: &InvoiceDocument) -> String {
        let parties = Parties {
            company: "Marram & Hive",
            number: "1006",
            name: "Tern Point",
            address: "1 Test Road, Testing",
            tax_id: Some("XA 12"),
        };
        html(kind, number, "2026-03-18".parse().unwrap(), &parties, document)
            .replace(STYLE, "")
            .replace("<tr", "\n<tr")
            .replace("<dt>", "\n<dt>")
    }

    #[test]
    fn an_invoice_on_paper() {
        insta::assert_snapshot!(page(Kind::Invoice { canceled_by: None, pay_to: None }, "I-1", &document()));
    }

    /// What the picture says is read by a decoder of others (the crate `rqrr`): 137.88 to the account, with the reference of I-1.
    #[test]
    fn an_invoice_carries_a_payment_code() {
        let account = "XX33MARR0001234567";
        let pay = Kind::Invoice { canceled_by: None, pay_to: Some(account) };
        let with = page(pay, "I-1", &document());
        assert!(
            with.contains("Please pay <b>EUR 137.88</b> to<br>Marram &amp; Hive<br>XX33 MARR 0001 2345 67"),
            "{with}"
        );
        let code = payment_code("Marram & Hive", account, (Money(13_788), document().currency), "RF64I1");
        let code = code.unwrap_or_else(|| panic!("{:?}", creditor_reference("I-1")));
        let squares = qrcode::QrCode::with_error_correction_level(&code, qrcode::EcLevel::M).unwrap();
        let (width, room) = (squares.width(), 4);
        let colors = squares.to_colors();
        let dark = |x: usize, y: usize| {
            let inside = |at: usize| (room..room + width).contains(&at);
            inside(x) && inside(y) && colors[(y - room) * width + x - room] == qrcode::Color::Dark
        };
        // Each square is eight by eight points.
        let side = (width + 2 * room) * 8;
        let mut image =
            rqrr::PreparedImage::prepare_from_greyscale(side, side, |x, y| if dark(x / 8, y / 8) { 0 } else { 255 });
        let read = image.detect_grids()[0].decode().unwrap().1;
        let lines: Vec<&str> = read.split('\n').collect();
        assert_eq!(lines, ["BCD", "002", "1", "SCT", "", "Marram & Hive", account, "EUR137.88", "", "RF64I1"]);
        // Nothing to pay, or canceled: no picture. Another currency or a number that is no IBAN: the account alone.
        let mut paid = document();
        paid.due = Money(0);
        assert!(!page(pay, "I-1", &paid).contains("class=\"pay\""));
        let canceled = Kind::Invoice { canceled_by: Some("CM-1"), pay_to: Some(account) };
        assert!(!page(canceled, "I-1", &document()).contains("class=\"pay\""));
        let own = Kind::Invoice { canceled_by: None, pay_to: Some("47110815") };
        let page_own = page(own, "I-1", &document());
        assert!(page_own.contains("4711 0815") && !page_own.contains("<svg"));
        let mut pounds = document();
        pounds.currency = Currency::of("GBP").unwrap();
        assert!(!page(pay, "I-1", &pounds).contains("<svg"));
    }

    /// 137.88 less a deposit of 80.00 with 14.96 tax in it: exactly 57.88 is due.
    #[test]
    fn an_invoice_with_a_deposit() {
        let mut document = document();
        let rate = document.taxes[0].rate.clone();
        let day = "2026-03-10".parse().unwrap();
        document.deposits = vec![DepositUsed {
            item: OpenItemId(1),
            document: DocumentRef { kind: DocumentKind::Deposit, id: 1, number: "D-41".to_owned() },
            order: Some("O-1".to_owned()),
            amount: Money(8_000),
            amount_base: Money(8_000),
            taxes: split_by_code(Money(8_000), &[(rate, Money(13_788))], day, |amount| amount),
        }];
        document.due = Money(5_788);
        let page = page(Kind::Invoice { canceled_by: None, pay_to: None }, "I-1", &document);
        let sums = page.split("<tfoot>").nth(1).unwrap();
        assert!(sums.contains("Less deposit D-41, with 14.96 tax, as on its receipt"), "{sums}");
        assert!(sums.contains("-80.00") || sums.contains("−80.00"), "{sums}");
        assert!(sums.contains("Balance due") && sums.contains("57.88"), "{sums}");
    }

    /// A quarter of 112.10 in advance is 28.03 (28.025), tax 6.45: one sum by code, the line as an annex; then the invoice
    /// over the goods, 84.07 and 19.34 (19.3361) tax.
    #[test]
    fn a_prepayment_invoice_and_the_invoice_that_uses_it() {
        let mut ahead = document();
        let rate = ahead.taxes[0].rate.clone();
        let quarter = Rate::from_percent("25").unwrap();
        ahead.lines[0].source = LineSource::Prepaid {
            order: OrderId(1),
            order_number: "O-1".to_owned(),
            customer_order_number: Some("PO <7>".to_owned()),
            in_advance_of: OrderLineId(1),
            asks: Asks {
                percent: Some(quarter),
                of: Money(11_210),
                before: Money::ZERO,
                used: Money::ZERO,
                asked_on: Quantity::from_whole(4),
                billed_before: Quantity::ZERO,
            },
        };
        (ahead.lines[0].amount, ahead.lines[0].net) = (Money(2_803), Money(2_803));
        (ahead.net, ahead.tax, ahead.total) = (Money(2_803), Money(645), Money(3_448));
        ahead.taxes[0] = TaxLine { base: Money(2_803), tax: Money(645), rate: rate.clone() };
        insta::assert_snapshot!(page(Kind::Invoice { canceled_by: None, pay_to: None }, "P-1", &ahead));

        let mut invoice = document();
        let part = Part { net: Money(2_803), tax: Money(645), net_base: Money(2_803) };
        let named = DocumentRef { kind: DocumentKind::Invoice, id: 9, number: "P-1".to_owned() };
        invoice.lines[0].prepaid =
            vec![PrepaidUsed { prepaid: PrepaidId(9), document: named, rate: rate.clone(), part }];
        (invoice.net, invoice.tax, invoice.total) = (Money(8_407), Money(1_934), Money(10_341));
        invoice.taxes[0] = TaxLine { base: Money(8_407), tax: Money(1_934), rate };
        let page = page(Kind::Invoice { canceled_by: None, pay_to: None }, "I-1", &invoice);
        let sums = page.split("<tfoot>").nth(1).unwrap();
        assert!(sums.contains("Less prepayment invoice P-1, its tax billed there"), "{sums}");
        assert!(sums.contains("-28.03") || sums.contains("−28.03"), "{sums}");
        assert!(sums.contains("112.10") && sums.contains("84.07") && sums.contains("103.41"), "{sums}");
    }

    #[test]
    fn the_receipt_of_a_deposit() {
        let document = document();
        let rate = document.taxes[0].rate.clone();
        let day = "2026-03-10".parse().unwrap();
        let taxes = split_by_code(Money(8_000), &[(rate, Money(13_788))], day, |amount| amount);
        let parties = Parties {
            company: "Marram & Hive",
            number: "1006",
            name: "Tern Point",
            address: "1 Test Road, Testing",
            tax_id: None,
        };
        let mut paper = DepositPaper {
            number: "D-41",
            date: day,
            target: Some("order O-1"),
            method: "Transfer",
            reference: Some("<winter>"),
            currency: document.currency,
            amount: Money(8_000),
            taxes: &taxes,
            reversed: false,
        };
        insta::assert_snapshot!(deposit_html(&paper, &parties).replace(STYLE, "").replace("<tr", "\n<tr"));
        paper.reversed = true;
        assert!(deposit_html(&paper, &parties).contains("is void"));
    }

    #[test]
    fn a_canceled_invoice_says_so() {
        let canceled = page(Kind::Invoice { canceled_by: Some("CM-7"), pay_to: None }, "I-1", &document());
        assert!(canceled.contains("<dt>Canceled by</dt><dd>CM-7</dd>"), "{canceled}");
    }

    /// One piece back, and 10.00 off the price of another line.
    #[test]
    fn a_credit_memo_over_lines_on_paper() {
        let mut document = document();
        document.lines[0].quantity = Quantity::ONE;
        document.lines[0].amount = Money(5_605);
        let off = InvoiceLine { quantity: Quantity::ZERO, amount: Money(1_000), ..document.lines[0].clone() };
        document.lines.push(off);
        (document.net, document.tax, document.total) = (Money(6_605), Money(1_519), Money(8_124));
        document.taxes[0] = TaxLine { base: Money(6_605), tax: Money(1_519), ..document.taxes[0].clone() };
        let kind = Kind::CreditMemo { over: Some("I-1"), whole: false, reason: "scratched" };
        insta::assert_snapshot!(page(kind, "CM-1", &document));
    }

    /// 1 back at 56.05, less a fee of 5.00: 12.89 and 1.15 of tax, 62.79 to credit. The other way round it is an invoice, which
    /// says what came back with a minus.
    #[test]
    fn what_goes_the_other_way_stands_under_a_heading_of_its_own() {
        let mut document = document();
        document.lines.truncate(1);
        document.lines[0].quantity = Quantity::ONE;
        document.lines[0].amount = Money(5_605);
        let minus = Quantity::from_whole(-1);
        let fee =
            InvoiceLine { quantity: minus, amount: Money(-500), code: "FEE".to_owned(), ..document.lines[0].clone() };
        document.lines.push(fee);
        let tax = |base, tax| TaxLine { base: Money(base), tax: Money(tax), ..document.taxes[0].clone() };
        document.taxes = vec![tax(5_605, 1_289), tax(-500, -115)];
        (document.net, document.tax, document.total) = (Money(5_105), Money(1_174), Money(6_279));
        let memo = page(Kind::CreditMemo { over: Some("I-1"), whole: false, reason: "scratched" }, "CM-1", &document);
        let after = memo.split("Goes out, or is charged").nth(1).unwrap();
        assert!(after.contains("FEE") && after.contains(">1 pc<") && after.contains(">5.00<"), "{memo}");
        assert!(memo.contains("-62.79") && memo.contains("of 5.00") && memo.contains("of -56.05"), "{memo}");
        let invoice = page(Kind::Invoice { canceled_by: None, pay_to: None }, "I-2", &document);
        let after = invoice.split("Came back").nth(1).unwrap();
        assert!(after.contains("FEE") && after.contains(">-1 pc<") && after.contains(">-5.00<"), "{invoice}");
    }

    #[test]
    fn nothing_typed_becomes_markup() {
        assert_eq!(escape("<b>\"A & B\"</b>"), "&lt;b&gt;&quot;A &amp; B&quot;&lt;/b&gt;");
    }
}
