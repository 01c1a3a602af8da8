//! Invoices: from shipped lines to a document, its tape and its entry.
//!
//! [`decide`] is the one function behind the draft on screen, the tape and the posting:
//! what is previewed is what is posted. *Source: domain.md sections 3, 4 and 7;
//! postings.md, Documents.*

mod checking;
mod grouping;
mod taping;

pub(crate) use checking::check_codes;
pub use grouping::{Group, group};
pub use taping::tape;

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};

use crate::accounts::{AccountMap, Purpose};
use crate::calendar::{DocumentDate, Periods, Terms};
use crate::checks::{Blocker, Check, Findings, Step};
use crate::entry::{Converted, Entry, EntryBuilder, LineFor, TaxMark, convert};
use crate::fingerprint;
use crate::fixed::{ExchangeRate, Quantity, Rate, UnitPrice};
use crate::ids::{CustomerId, ItemId, OrderId, OrderLineId, ShipmentId, ShipmentLineId};
use crate::marks::{MarkRules, Marks};
use crate::money::{Currency, Money, line_amounts, line_total};
use crate::order::{InvoiceShares, OrderAfter, OrderFacts, compare};
use crate::pricing::PriceStep;
use crate::spread::spread;
use crate::tape::{Change, Tape};
use crate::tax::{TaxCategory, TaxComputed, TaxLine, TaxRate, TaxTable, compute};
use crate::terms::{DiscountOffer, DuePart};
use crate::treatment::Taxed;

/// What an item is, as far as billing is concerned.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum ItemKind {
    /// Kept in stock.
    Goods,
    /// Work done.
    Service,
    /// Freight, handling.
    Charge,
    /// Charged and owed back: drums, pallets.
    Packaging,
}

impl ItemKind {
    /// The word kept in the database.
    pub const fn word(self) -> &'static str {
        match self {
            Self::Goods => "goods",
            Self::Service => "service",
            Self::Charge => "charge",
            Self::Packaging => "packaging",
        }
    }

    /// The kind with this word.
    pub fn of(word: &str) -> Option<Self> {
        [Self::Goods, Self::Service, Self::Charge, Self::Packaging].into_iter().find(|kind| kind.word() == word)
    }
}

/// The customer as the invoice needs it.
#[derive(Debug, Clone)]
pub struct CustomerFacts {
    /// Its id.
    pub id: CustomerId,
    /// Its number.
    pub number: String,
    /// Its name.
    pub name: String,
    /// Its class, for the account map.
    pub class: Option<String>,
    /// Its tax id.
    pub tax_id: Option<String>,
    /// Whether it wants its order number on every invoice.
    pub needs_order_number: bool,
    /// Why it is on stop, if it is.
    pub stop_reason: Option<String>,
    /// What it owes, in base currency.
    pub owes: Money,
    /// Its credit limit, in base currency.
    pub credit_limit: Option<Money>,
}

/// A shipped line, and how much of it to bill now.
#[derive(Debug, Clone)]
pub struct LineToBill {
    /// The shipment line.
    pub shipment_line: ShipmentLineId,
    /// The shipment.
    pub shipment: ShipmentId,
    /// Its number.
    pub shipment_number: String,
    /// When it was posted.
    pub shipped_on: NaiveDate,
    /// The order.
    pub order: OrderId,
    /// The order line.
    pub order_line: OrderLineId,
    /// The item.
    pub item: ItemId,
    /// Its code.
    pub code: String,
    /// Its words on the document.
    pub description: String,
    /// What kind of item.
    pub kind: ItemKind,
    /// Its class, for the account map.
    pub class: String,
    /// Its unit, as shown.
    pub unit: String,
    /// How much to bill now.
    pub quantity: Quantity,
    /// How much of the shipment line is free to be billed.
    pub unbilled: Quantity,
    /// Price per unit, agreed on the order.
    pub unit_price: UnitPrice,
    /// Price per unit of the list, if it differed.
    pub list_price: UnitPrice,
    /// Line discount as a fraction of one.
    pub discount: Rate,
    /// Where the discount comes from.
    pub discount_reason: Option<String>,
    /// What comes on top, per unit.
    pub surcharge: UnitPrice,
    /// What for.
    pub surcharge_name: Option<String>,
    /// How the price of the order came about.
    pub price_steps: Vec<PriceStep>,
    /// Tax code.
    pub tax_code: String,
    /// Where it went and how that is taxed.
    pub delivered: Option<(String, Taxed)>,
    /// Own fields and reporting codes.
    pub marks: Marks,
    /// Its cost, where cost follows billing.
    pub held_cost: Option<HeldCost>,
    /// Where the invoice has another price than the order.
    pub price_change: Option<PriceChange>,
}

/// The cost of a shipment line that waits for its billing, in base currency.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct HeldCost {
    /// What left.
    pub shipped: Quantity,
    /// What of it is billed already.
    pub billed: Quantity,
    /// Its cost.
    pub cost: Money,
    /// What of the cost has followed already.
    pub followed: Money,
}

impl HeldCost {
    /// What of the cost follows a quantity billed now: its share, and with the last of it all
    /// that is left.
    pub fn following(&self, quantity: Quantity) -> Money {
        if self.billed.scaled() + quantity.scaled() >= self.shipped.scaled() {
            self.cost - self.followed
        } else {
            self.cost.share(quantity.scaled(), self.shipped.scaled())
        }
    }
}

/// A price that differs from what the order agreed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PriceChange {
    /// Price per unit on the invoice.
    pub unit_price: UnitPrice,
    /// Why.
    pub reason: String,
    /// How far the line's net may differ because of it, in base currency: the limit of who
    /// changed it, or what was approved. None for any amount.
    pub allowed: Option<Money>,
}

/// What another price does to the net of a line, in base currency; negative where the customer
/// pays less. *Source: domain.md section 5: the difference to the order stays visible.*
pub fn price_difference(
    (quantity, discount): (Quantity, Rate),
    agreed: UnitPrice,
    price: UnitPrice,
    (document, base, rate): (Currency, Currency, ExchangeRate),
) -> Money {
    let net = |price| line_amounts(quantity, price, discount, document).net;
    (net(price) - net(agreed)).to_base(rate, document, base)
}

/// Everything needed to decide on an invoice.
#[derive(Debug, Clone)]
pub struct InvoiceInput<'a> {
    /// What is checked for: going on a draft or being posted.
    pub step: Step,
    /// Who is billed.
    pub customer: CustomerFacts,
    /// What is billed, in order.
    pub lines: Vec<LineToBill>,
    /// Every order that a line comes from, with all its lines.
    pub orders: Vec<OrderFacts>,
    /// Printed, starts the terms.
    pub document_date: DocumentDate,
    /// Decides the period.
    pub posting_date: DocumentDate,
    /// Base currency per unit of the orders' currency on the document date.
    pub rate: Option<ExchangeRate>,
    /// Base currency.
    pub base: Currency,
    /// Document date of the latest posted invoice.
    pub last_document_date: Option<NaiveDate>,
    /// Per document or per line.
    pub tax_computed: TaxComputed,
    /// Tax codes.
    pub taxes: &'a TaxTable,
    /// The account map.
    pub accounts: &'a AccountMap,
    /// The periods.
    pub periods: &'a Periods,
    /// Reporting lists, and the accounts that demand a code.
    pub mark_rules: &'a MarkRules,
}

/// A line of an invoice.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct InvoiceLine {
    /// The shipment line billed.
    pub shipment_line: ShipmentLineId,
    /// Its shipment.
    pub shipment: ShipmentId,
    /// The shipment's number.
    pub shipment_number: String,
    /// When it left.
    pub shipped_on: NaiveDate,
    /// The order.
    pub order: OrderId,
    /// The order's number.
    pub order_number: String,
    /// The number the customer gave the order.
    pub customer_order_number: Option<String>,
    /// The order line.
    pub order_line: OrderLineId,
    /// The item.
    pub item: ItemId,
    /// Its code.
    pub code: String,
    /// Its words.
    pub description: String,
    /// Its unit.
    pub unit: String,
    /// Ordered, less what was cancelled.
    pub ordered: Quantity,
    /// Billed on earlier invoices.
    pub billed_before: Quantity,
    /// Billed now.
    pub quantity: Quantity,
    /// Free to bill on this shipment line.
    pub unbilled: Quantity,
    /// Left to bill after this invoice.
    pub still_to_come: Quantity,
    /// Price per unit.
    pub unit_price: UnitPrice,
    /// Price per unit on the order.
    pub order_price: UnitPrice,
    /// Why it differs from the order, where it does.
    pub price_reason: Option<String>,
    /// Price per unit on the list.
    pub list_price: UnitPrice,
    /// Line discount.
    pub discount: Rate,
    /// Where the discount comes from.
    pub discount_reason: Option<String>,
    /// What comes on top, per unit.
    pub surcharge: UnitPrice,
    /// What for.
    pub surcharge_name: Option<String>,
    /// How the price came about.
    pub price_steps: Vec<PriceStep>,
    /// Own fields and reporting codes.
    pub marks: Marks,
    /// What it is.
    pub kind: ItemKind,
    /// Quantity × price.
    pub full: Money,
    /// Line net.
    pub net: Money,
    /// Tax code with the rate of the tax date.
    pub tax: TaxRate,
}

/// The document, as posted and printed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct InvoiceDocument {
    /// Who is billed.
    pub customer: CustomerId,
    /// Currency of all amounts.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub currency: Currency,
    /// Base currency per unit of it.
    pub rate: ExchangeRate,
    /// Printed; starts the terms.
    pub document_date: DocumentDate,
    /// Decides the period.
    pub posting_date: DocumentDate,
    /// Picks the tax rates: the latest delivery.
    pub tax_date: NaiveDate,
    /// Terms of the orders.
    pub terms: Terms,
    /// When it falls due; where it does in parts, the first of them.
    pub due_date: NaiveDate,
    /// What falls due when.
    pub due_parts: Vec<DuePart>,
    /// What paying early earns.
    pub early: Option<DiscountOffer>,
    /// Its lines.
    pub lines: Vec<InvoiceLine>,
    /// Tax by code.
    pub taxes: Vec<TaxLine>,
    /// Sum of the line nets.
    pub net: Money,
    /// Sum of the tax.
    pub tax: Money,
    /// What the customer owes for it.
    pub total: Money,
    /// The total in base currency: what receivables carry.
    pub total_base: Money,
    /// Gross of each order's lines; adds up to the total.
    pub order_shares: Vec<OrderShare>,
}

/// An order's part of an invoice.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct OrderShare {
    /// The order.
    pub order: OrderId,
    /// Gross of its lines.
    pub gross: Money,
}

/// What posting the invoice does, or why it cannot be.
#[derive(Debug, Clone)]
pub struct InvoiceDecision {
    /// The document; none where nothing was picked.
    pub document: Option<InvoiceDocument>,
    /// The entry; none where an account is missing or all is free of charge.
    pub entry: Option<Entry>,
    /// The entry of the cost that follows billing, in base currency.
    pub cost_entry: Option<Entry>,
    /// What of the cost of each shipment line follows.
    pub costs: Vec<(ShipmentLineId, Money)>,
    /// The arithmetic.
    pub tape: Tape,
    /// What changes.
    pub changes: Vec<Change>,
    /// What the orders become.
    pub orders: Vec<OrderAfter>,
    /// What stands in the way, and warnings.
    pub blockers: Vec<Blocker>,
    /// Changes with every figure of the document and the entry: who posts names the one seen.
    pub fingerprint: String,
}

/// Decides on an invoice over shipped lines of one customer.
///
/// Never fails: what is wrong stands among the blockers, and the document is computed as
/// far as it can be, so that the draft can be shown while it is put right.
pub fn decide(input: &InvoiceInput<'_>) -> InvoiceDecision {
    let mut findings = Findings::at(input.step);
    checking::check(input, &mut findings);
    let Some(first) = input.lines.first().and_then(|line| order_of(input, line.order)) else {
        findings.add(Check::NothingToDo, "lines", "Nothing is picked. Pick a shipment or a line to bill.");
        return InvoiceDecision {
            document: None,
            entry: None,
            cost_entry: None,
            costs: Vec::new(),
            tape: Tape::new(input.customer.name.clone(), "nothing picked", input.base),
            changes: Vec::new(),
            orders: Vec::new(),
            blockers: findings.finish(),
            fingerprint: String::new(),
        };
    };
    let document = build(input, first, &mut findings);
    let entry = enter(input, &document, &mut findings);
    let (cost_entry, costs) = enter_cost(input, &document, &mut findings);
    for entry in entry.iter().chain(&cost_entry) {
        checking::check_codes(input.mark_rules, entry, &mut findings);
    }
    let (orders, order_changes) = compare(&input.orders, &orders_after(input, &document));
    let fingerprint = fingerprint::of(&(&document, &entry, &cost_entry));
    InvoiceDecision {
        tape: tape(&document, &input.customer.name, input.base),
        changes: taping::changes(input, &document, order_changes),
        entry,
        cost_entry,
        costs,
        orders,
        blockers: findings.finish(),
        fingerprint,
        document: Some(document),
    }
}

fn order_of<'a>(input: &'a InvoiceInput<'_>, order: OrderId) -> Option<&'a OrderFacts> {
    input.orders.iter().find(|facts| facts.id == order)
}

fn build(input: &InvoiceInput<'_>, first: &OrderFacts, findings: &mut Findings) -> InvoiceDocument {
    let currency = first.currency;
    let tax_date = input.lines.iter().map(|line| line.shipped_on).max().unwrap_or(input.document_date.date);
    let mut billed_now: Vec<(OrderLineId, Quantity)> = Vec::new();
    let mut lines = Vec::with_capacity(input.lines.len());
    for (position, line) in input.lines.iter().enumerate() {
        let Some(order) = order_of(input, line.order) else { continue };
        let progress = order.lines.iter().find(|(id, _)| *id == line.order_line).map(|(_, progress)| *progress);
        let (ordered, billed) =
            progress.map(|progress| (progress.wanted(), progress.billed)).unwrap_or((line.quantity, Quantity::ZERO));
        // Two shipments of one order line on one invoice: the second counts the first.
        let earlier: i64 =
            billed_now.iter().filter(|(id, _)| *id == line.order_line).map(|(_, quantity)| quantity.scaled()).sum();
        let billed_before = Quantity::from_scaled(billed.scaled() + earlier);
        billed_now.push((line.order_line, line.quantity));
        let tax = input.taxes.rate_on(&line.tax_code, tax_date).unwrap_or_else(|| {
            findings.add(
                Check::TaxRateMissing,
                format!("lines.{position}.tax_code"),
                format!("Tax code {} has no rate on the tax date. Ask a lead to add it.", line.tax_code),
            );
            TaxRate { code: line.tax_code.clone(), category: TaxCategory::O, rate: Rate::ZERO }
        });
        checking::check_tax_id(input, &tax, findings);
        checking::check_exemption(input, line, &tax, tax_date, findings);
        let unit_price = line.price_change.as_ref().map_or(line.unit_price, |change| change.unit_price);
        let amounts = line_total(line.quantity, unit_price, line.discount, line.surcharge, currency);
        checking::check_price(input, position, line, currency, findings);
        lines.push(InvoiceLine {
            shipment_line: line.shipment_line,
            shipment: line.shipment,
            shipment_number: line.shipment_number.clone(),
            shipped_on: line.shipped_on,
            order: line.order,
            order_number: order.number.clone(),
            customer_order_number: order.customer_order_number.clone(),
            order_line: line.order_line,
            item: line.item,
            code: line.code.clone(),
            description: line.description.clone(),
            unit: line.unit.clone(),
            ordered,
            billed_before,
            quantity: line.quantity,
            unbilled: line.unbilled,
            still_to_come: Quantity::from_scaled(
                (ordered.scaled() - billed_before.scaled() - line.quantity.scaled()).max(0),
            ),
            unit_price,
            order_price: line.unit_price,
            price_reason: line.price_change.as_ref().map(|change| change.reason.clone()),
            list_price: line.list_price,
            discount: line.discount,
            discount_reason: line.discount_reason.clone(),
            surcharge: line.surcharge,
            surcharge_name: line.surcharge_name.clone(),
            price_steps: line.price_steps.clone(),
            marks: line.marks.clone(),
            kind: line.kind,
            full: amounts.full,
            net: amounts.net,
            tax,
        });
    }
    let taxes = compute(input.tax_computed, &lines.iter().map(|line| (line.tax.clone(), line.net)).collect::<Vec<_>>());
    let net: Money = lines.iter().map(|line| line.net).sum();
    let tax: Money = taxes.iter().map(|line| line.tax).sum();
    let rate = input.rate.unwrap_or(ExchangeRate::ONE);
    InvoiceDocument {
        customer: input.customer.id,
        currency,
        rate,
        document_date: input.document_date,
        posting_date: input.posting_date,
        tax_date,
        terms: first.terms.clone(),
        due_date: first.terms.due_date(input.document_date.date),
        due_parts: first.terms.schedule(input.document_date.date, net + tax),
        early: first.terms.offer(input.document_date.date, net, net + tax),
        order_shares: order_shares(&lines, &taxes),
        lines,
        taxes,
        net,
        tax,
        total: net + tax,
        total_base: (net + tax).to_base(rate, currency, input.base),
    }
}

/// Gross of each order's lines: tax of a code is spread over its lines by their net.
fn order_shares(lines: &[InvoiceLine], taxes: &[TaxLine]) -> Vec<OrderShare> {
    let mut shares: Vec<OrderShare> = Vec::new();
    let mut add = |order: OrderId, amount: Money| match shares.iter_mut().find(|share| share.order == order) {
        Some(share) => share.gross += amount,
        None => shares.push(OrderShare { order, gross: amount }),
    };
    for line in lines {
        add(line.order, line.net);
    }
    for tax in taxes {
        let taxed: Vec<&InvoiceLine> = lines.iter().filter(|line| line.tax == tax.rate).collect();
        let weights: Vec<i64> = taxed.iter().map(|line| line.net.0).collect();
        for (line, part) in taxed.iter().zip(spread(tax.tax, &weights)) {
            add(line.order, part);
        }
    }
    shares
}

/// Dr receivable; Cr revenue by item class, charges, tax by code.
fn enter(input: &InvoiceInput<'_>, document: &InvoiceDocument, findings: &mut Findings) -> Option<Entry> {
    let nets: Vec<Money> = document.lines.iter().map(|line| line.net).collect();
    let taxes: Vec<Money> = document.taxes.iter().map(|line| line.tax).collect();
    let Converted { total, taxes: taxes_base, others } =
        convert(&taxes, &nets, document.rate, document.currency, input.base);
    let mut builder = EntryBuilder::new(input.accounts, input.customer.class.as_deref());
    builder.add(
        Purpose::Receivable,
        document.total,
        total,
        LineFor { customer: Some(document.customer), ..LineFor::default() },
    );
    // Goods and work first, charges after them, packaging that is owed back last.
    for purpose in [Purpose::Revenue, Purpose::ChargeRevenue, Purpose::ContainerLiability] {
        for ((line, net), base) in input.lines.iter().zip(&nets).zip(&others) {
            if purpose_of(line.kind) != purpose {
                continue;
            }
            let owed_back = purpose == Purpose::ContainerLiability;
            let what = LineFor {
                item_class: Some(&line.class),
                customer: owed_back.then_some(document.customer),
                marks: Some(&line.marks),
                ..LineFor::default()
            };
            builder.add(purpose, -*net, -*base, what);
        }
    }
    for (tax, base) in document.taxes.iter().zip(&taxes_base) {
        let mark = TaxMark {
            code: tax.rate.code.clone(),
            base: tax.base.to_base(document.rate, document.currency, input.base),
        };
        builder.add(Purpose::TaxPayable, -tax.tax, -*base, LineFor { tax: Some(mark), ..LineFor::default() });
    }
    let text = format!("Invoice to {}", input.customer.name);
    let (entry, problems) = builder.finish(document.posting_date.date, text, document.currency);
    let complete = problems.is_empty();
    for problem in problems {
        findings.add(Check::AccountMissing, "account_map", problem.to_string());
    }
    entry.filter(|_| complete)
}

/// Where the net of a line goes.
const fn purpose_of(kind: ItemKind) -> Purpose {
    match kind {
        ItemKind::Goods | ItemKind::Service => Purpose::Revenue,
        ItemKind::Charge => Purpose::ChargeRevenue,
        ItemKind::Packaging => Purpose::ContainerLiability,
    }
}

/// Dr cost of goods sold; Cr goods shipped and not billed. *Source: postings.md, Goods.*
fn enter_cost(
    input: &InvoiceInput<'_>,
    document: &InvoiceDocument,
    findings: &mut Findings,
) -> (Option<Entry>, Vec<(ShipmentLineId, Money)>) {
    let mut builder = EntryBuilder::new(input.accounts, input.customer.class.as_deref());
    let mut costs = Vec::new();
    for line in &input.lines {
        let Some(held) = line.held_cost else { continue };
        let cost = held.following(line.quantity);
        costs.push((line.shipment_line, cost));
        let what = || LineFor { item_class: Some(&line.class), marks: Some(&line.marks), ..LineFor::default() };
        builder.add_base(Purpose::Cogs, cost, what());
        builder.add_base(Purpose::ShippedCost, -cost, what());
    }
    let text = format!("Cost of what was billed to {}", input.customer.name);
    let (entry, problems) = builder.finish(document.posting_date.date, text, input.base);
    let complete = problems.is_empty();
    for problem in problems {
        findings.add(Check::AccountMissing, "account_map", problem.to_string());
    }
    (entry.filter(|_| complete), costs)
}

fn orders_after(input: &InvoiceInput<'_>, document: &InvoiceDocument) -> Vec<OrderFacts> {
    let invoice = InvoiceShares {
        invoice: crate::ids::InvoiceId(0),
        total: document.total,
        open: document.total,
        shares: document.order_shares.iter().map(|share| (share.order, share.gross)).collect(),
    };
    let mut after = input.orders.clone();
    for order in &mut after {
        for (id, progress) in &mut order.lines {
            for line in document.lines.iter().filter(|line| line.order_line == *id) {
                progress.billed = Quantity::from_scaled(progress.billed.scaled() + line.quantity.scaled());
            }
        }
        order.invoices.push(invoice.clone());
    }
    after
}
