//! Invoices: from what was shipped, ordered or typed to a document, its tape and its entry.
//!
//! [`decide`] is the one function behind the draft on screen, the tape and the posting:
//! what is previewed is what is posted. [`cancel`] takes a posted one back, [`credit`] part of one. *Source: domain.md
//! sections 3, 4 and 7; postings.md, Documents.*

mod arithmetic;
mod building;
pub mod cancel;
mod checking;
pub mod credit;
mod document;
mod entering;
mod grouping;
mod in_order;
mod leaving;
mod line;
mod promise;
mod taping;
pub mod whereabouts;

pub use arithmetic::arithmetic_faults;
pub use building::{early_offer, owed_back};
pub(crate) use checking::check_codes;
pub use document::{DocumentDiscount, InvoiceDocument, LinkRole, OrderShare};
pub use grouping::{BillingHabit, Combine, Group, Picking, group, waits_for_rest};
pub use in_order::{decide_in_order, decide_those_that_go};
pub use leaving::Leaving;
pub use line::{HeldCost, InvoiceLine, LineFault, LineSource, LineToBill, PriceChange, TaxChange, price_difference};
pub use promise::Difference;
pub use taping::tape;

use std::collections::BTreeMap;

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};

use crate::accounts::{AccountMap, Purpose};
use crate::calendar::{DateOrder, DocumentDate, Periods, Terms};
use crate::checks::{Blocker, Check, Findings, Step};
use crate::deposit::using::{self, DepositFacts, DepositOffer, DepositUse};
use crate::entry::Entry;
use crate::fingerprint;
use crate::fixed::{ExchangeRate, Quantity, Rate};
use crate::ids::{ApprovalId, CustomerId, ItemId, OrderId};
use crate::marks::MarkRules;
use crate::money::{Currency, Money, too_large};
use crate::open_items::Side;
use crate::order::{InvoiceShares, OrderAfter, OrderFacts, compare};
use crate::posting::{
    Billed, MovedWith, NewApplication, NewItem, Posting, PrepaidMove, StockMove, Which, account_of, containers_of,
};
use crate::prepayment::{Part, Prepaid, using as prepaid_using};
use crate::settle::BesideBooked;
use crate::stock::Layer;
use crate::tape::{Change, Tape};
use crate::tax::{TaxComputed, TaxTable};

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

    /// Whether it is billed without having left on a shipment.
    pub const fn needs_no_shipment(self) -> bool {
        matches!(self, Self::Service | Self::Charge)
    }
}

/// How documents go out to a customer.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum Delivery {
    /// On paper.
    #[default]
    Paper,
    /// By email.
    Email,
    /// As a structured invoice.
    Structured,
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
    /// Why it is on hold, if it is.
    pub stop_reason: Option<String>,
    /// What it owes, in base currency.
    pub owes: Money,
    /// Its credit limit, in base currency.
    pub credit_limit: Option<Money>,
    /// How documents go to it.
    pub delivery: Delivery,
    /// Where mail goes.
    pub email: Option<String>,
    /// Whether its prices carry the tax.
    pub gross_priced: bool,
}

/// What the lines of one invoice have in common.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Basis {
    /// The currency.
    pub currency: Currency,
    /// The payment terms.
    pub terms: Terms,
    /// Whether someone chose the terms for this invoice.
    pub terms_typed: bool,
    /// Whether prices carry the tax.
    pub gross_priced: bool,
}

/// A discount wished for over the whole document.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DiscountWish {
    /// As a share of the lines, or
    pub percent: Option<Rate>,
    /// as an amount, as priced.
    pub amount: Option<Money>,
    /// Why.
    pub reason: String,
    /// How much it may take off, in base currency; none for any amount.
    pub allowed: Option<Money>,
}

/// Which day picks the tax rate. *Source: domain.md section 3.*
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum TaxDateRule {
    /// The day the goods of the line left; for what has no shipment the document date.
    #[default]
    Delivery,
    /// The document date.
    Document,
}

impl TaxDateRule {
    /// The word kept in the database.
    pub const fn word(self) -> &'static str {
        match self {
            Self::Delivery => "delivery",
            Self::Document => "document",
        }
    }

    /// The rule with this word.
    pub fn of(word: &str) -> Option<Self> {
        [Self::Delivery, Self::Document].into_iter().find(|rule| rule.word() == word)
    }
}

/// Everything needed to decide on an invoice.
#[derive(Debug, Clone)]
pub struct InvoiceInput<'a> {
    /// What is checked for: going on a draft or being posted.
    pub step: Step,
    /// Who is billed.
    pub customer: CustomerFacts,
    /// Currency, terms and the way of pricing.
    pub basis: Basis,
    /// What is billed, in order.
    pub lines: Vec<LineToBill>,
    /// Every order that a line comes from, with all its lines.
    pub orders: Vec<OrderFacts>,
    /// Layers of what leaves stock with it, in the company's warehouse, those posted first before the others.
    pub stock: BTreeMap<ItemId, Vec<Layer>>,
    /// What of each item is reserved there for orders, in stock units.
    pub committed: BTreeMap<ItemId, Quantity>,
    /// What comes off the whole.
    pub discount: Option<DiscountWish>,
    /// What was asked for of the draft and is not decided on.
    pub waits: Option<WaitingRequest>,
    /// What was prepaid on order lines it bills, the oldest first.
    pub prepaid: Vec<Prepaid>,
    /// Deposits of the customer: for the orders on it, and on account; the oldest first.
    pub deposits: Vec<DepositFacts>,
    /// How deposits are used on part invoices.
    pub deposit_use: DepositUse,
    /// Words above the lines.
    pub text_above: Option<String>,
    /// Words below the lines.
    pub text_below: Option<String>,
    /// Printed, starts the terms.
    pub document_date: DocumentDate,
    /// Decides the period.
    pub posting_date: DocumentDate,
    /// Base currency per unit of the invoice's currency on the document date.
    pub rate: Option<ExchangeRate>,
    /// Base currency.
    pub base: Currency,
    /// The cancelled invoice it bills anew, and the day it was cancelled.
    pub replaces: Option<(String, NaiveDate)>,
    /// Today's date, and that of the last invoice.
    pub dates: DateOrder,
    /// Which day picks the tax rates.
    pub tax_date: TaxDateRule,
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

/// A request for approval that waits for someone's word.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct WaitingRequest {
    /// The request.
    pub id: ApprovalId,
    /// Who asked.
    pub maker: String,
    /// What for.
    pub words: String,
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
    /// The cost that goes with each line of the document, in its order, in base currency: what follows of a
    /// shipment line, or of what leaves with it.
    pub costs: Vec<Money>,
    /// What each line bills in advance, in its order, where it is a prepayment invoice; empty otherwise.
    pub advanced: Vec<Part>,
    /// What leaves stock with it.
    pub leaving: Vec<Leaving>,
    /// Why it comes to something else than its orders promised; nothing where it does not.
    pub differences: Vec<Difference>,
    /// Deposits that could be applied to it, used or not.
    pub deposits: Vec<DepositOffer>,
    /// The arithmetic.
    pub tape: Tape,
    /// What changes.
    pub changes: Vec<Change>,
    /// What the orders become.
    pub orders: Vec<OrderAfter>,
    /// The orders as they are then.
    pub orders_after: Vec<OrderFacts>,
    /// What stands in the way, and warnings.
    pub blockers: Vec<Blocker>,
    /// Changes with every figure of the document and the entry: who posts names the one seen.
    pub fingerprint: String,
}

impl InvoiceDecision {
    /// What it does to the books: the customer owes it, and what is on it is billed. Nothing where there is
    /// no document.
    pub fn posting(&self) -> Posting {
        self.clone().take_posting()
    }

    /// The same, its entries and orders taken out of the decision: one of ten thousand is not copied first.
    pub fn take_posting(&mut self) -> Posting {
        let mut posting = Posting { orders: std::mem::take(&mut self.orders), ..Posting::default() };
        let Some(document) = &self.document else { return posting };
        let account = account_of(self.entry.as_ref(), Purpose::Receivable).map(str::to_owned);
        let entry = posting.enter(self.entry.take(), None);
        posting.enter(self.cost_entry.take(), None);
        posting.containers.extend(containers_of(document));
        posting.billed.extend(document.lines.iter().zip(&self.costs).filter_map(|(line, cost)| {
            Some(Billed {
                shipment_line: line.source.shipment_line(),
                order_line: line.source.order_line()?,
                quantity: line.quantity,
                cost: *cost,
            })
        }));
        posting.prepaid.extend(PrepaidMove::of(document));
        for leaving in &self.leaving {
            let with = MovedWith::DocumentLine { invoice: None, line: leaving.line };
            posting.stock.extend(StockMove::out(&leaving.issues, document.posting_date.date, with));
        }
        let (dated, total) = (document.document_date.date, document.total);
        let debit = posting.make(NewItem {
            customer: document.customer,
            purpose: Purpose::Receivable,
            account,
            side: Side::OwedToUs,
            document: None,
            currency: document.currency,
            amount: total,
            amount_base: document.total_base,
            posting_date: document.posting_date.date,
            document_date: dated,
            due_date: document.terms.next_due(dated, total, total),
            terms: Some(document.terms.clone()),
            taxes: Vec::new(),
        });
        posting.applications.extend(document.deposits.iter().map(|deposit| NewApplication {
            date: document.posting_date.date,
            debit,
            credit: Which::Known(deposit.item),
            debit_amount: (deposit.amount, deposit.amount_base),
            credit_amount: (deposit.amount, deposit.amount_base),
            beside: BesideBooked::default(),
            taxes: deposit.taxes.clone(),
            reverses: None,
            entry,
        }));
        posting
    }
}

/// Decides on an invoice of one customer.
///
/// Never fails: what is wrong stands among the blockers, and the document is computed as
/// far as it can be, so that the draft can be shown while it is put right.
pub fn decide(input: &InvoiceInput<'_>) -> InvoiceDecision {
    let mut findings = Findings::at(input.step);
    checking::check(input, &mut findings);
    if input.lines.is_empty() {
        findings.add(
            Check::NothingToDo,
            "lines",
            "Nothing is selected. Select a shipment or a line to bill, or add one.",
        );
        return InvoiceDecision {
            document: None,
            entry: None,
            cost_entry: None,
            costs: Vec::new(),
            advanced: Vec::new(),
            leaving: Vec::new(),
            differences: Vec::new(),
            deposits: Vec::new(),
            tape: Tape::new(input.customer.name.clone(), "nothing selected", input.basis.currency),
            changes: Vec::new(),
            orders: Vec::new(),
            orders_after: Vec::new(),
            blockers: findings.finish(),
            fingerprint: String::new(),
        };
    }
    let mut document = building::build(input, &mut findings);
    let uses = using::decide(
        input,
        (&document.order_shares, &document.taxes, document.total),
        &orders_after(input, &document),
        &mut findings,
    );
    building::apply_deposits(input, &mut document, uses.used);
    let amounts = document.lines.iter().map(|line| line.full.abs());
    let largest = amounts.chain([document.total.abs(), document.total_base.abs()]).max();
    if let Some(sentence) = largest.and_then(too_large) {
        findings.add(Check::AmountTooLarge, "lines", sentence);
    }
    let entry = entering::enter(input, &document, &mut findings);
    let leaving = leaving::leave(input, &mut findings);
    let (cost_entry, costs) = entering::enter_cost(input, &document, &leaving, &mut findings);
    for entry in entry.iter().chain(&cost_entry) {
        checking::check_codes(input.mark_rules, entry, &mut findings);
    }
    let orders_after = orders_after(input, &document);
    let (orders, order_changes) = compare(&input.orders, &orders_after);
    let fingerprint = fingerprint::of(&(&document, &entry, &cost_entry));
    let differences = promise::differences(input, &document);
    InvoiceDecision {
        tape: tape(&document, &input.customer.name, input.base, &differences),
        changes: [taping::changes(input, &document, order_changes), leaving::changes(input, &leaving)].concat(),
        entry,
        cost_entry,
        costs,
        advanced: entering::advanced(&document, input.base),
        leaving,
        differences,
        deposits: uses.offered,
        orders,
        orders_after,
        blockers: findings.finish(),
        fingerprint,
        document: Some(document),
    }
}

fn order_of<'a>(input: &'a InvoiceInput<'_>, order: OrderId) -> Option<&'a OrderFacts> {
    input.orders.iter().find(|facts| facts.id == order)
}

fn orders_after(input: &InvoiceInput<'_>, document: &InvoiceDocument) -> Vec<OrderFacts> {
    let invoice = InvoiceShares {
        invoice: crate::ids::InvoiceId(0),
        name: "this invoice".to_owned(),
        total: document.total,
        open: document.due,
        in_advance: document.is_prepayment(),
        shares: document.order_shares.iter().map(|share| (share.order, share.gross)).collect(),
    };
    let mut after = input.orders.clone();
    for order in &mut after {
        for (id, progress) in &mut order.lines {
            for line in document.lines.iter().filter(|line| line.source.order_line() == Some(*id)) {
                let more = |quantity: Quantity| Quantity::from_scaled(quantity.scaled() + line.quantity.scaled());
                progress.billed = more(progress.billed);
                // Work that needs no shipment is done as it is billed.
                if line.source.shipment_line().is_none() {
                    progress.shipped = more(progress.shipped);
                }
            }
        }
        order.invoices.push(invoice.clone());
        let used = |deposit: &&using::DepositUsed| deposit.order.as_deref() == Some(order.number.as_str());
        order.prepaid_left -= prepaid_using::net_of_order(document, order.id);
        if document.is_prepayment() {
            order.prepaid_left += document.net;
        }
        order.deposits_held -= document.deposits.iter().filter(used).map(|deposit| deposit.amount).sum::<Money>();
    }
    after
}
