//! Money in: receipts, and applying them to invoices.
//!
//! [`decide`] serves a new receipt and money that already lies unapplied alike; only the
//! debit side differs. *Source: domain.md sections 10 and 11; postings.md, Money.*

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};

use crate::accounts::{AccountMap, Purpose};
use crate::calendar::{DocumentDate, Periods, words};
use crate::checks::{Blocker, Check, Findings, Step};
use crate::entry::{Entry, EntryBuilder, LineFor};
use crate::fingerprint;
use crate::fixed::ExchangeRate;
use crate::ids::{CustomerId, DocumentKind, DocumentRef, InvoiceId};
use crate::money::{Currency, Money};
use crate::order::{OrderAfter, OrderFacts, compare};
use crate::spread::spread;
use crate::tape::{Change, Figure, Tape, TapeStyle};

/// How money came in.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum Method {
    /// A check, in hand until it is taken to the bank.
    Check,
    /// A transfer, at the bank at once.
    Transfer,
    /// Notes and coins, in hand.
    Cash,
    /// Empty containers brought back: no money, but what was charged for them.
    Containers,
}

impl Method {
    /// The word kept in the database.
    pub const fn word(self) -> &'static str {
        match self {
            Self::Check => "check",
            Self::Transfer => "transfer",
            Self::Cash => "cash",
            Self::Containers => "containers",
        }
    }

    /// The method with this word.
    pub fn of(word: &str) -> Option<Self> {
        [Self::Check, Self::Transfer, Self::Cash, Self::Containers].into_iter().find(|method| method.word() == word)
    }

    /// Where the money is.
    pub const fn purpose(self) -> Purpose {
        match self {
            Self::Transfer => Purpose::Bank,
            Self::Check | Self::Cash => Purpose::InHand,
            Self::Containers => Purpose::ContainerLiability,
        }
    }
}

/// Where the money that is applied comes from.
#[derive(Debug, Clone)]
pub enum Source {
    /// It comes in now.
    Received {
        /// How.
        method: Method,
    },
    /// It lies unapplied on an earlier receipt.
    Unapplied {
        /// Number of that receipt.
        number: String,
        /// Date of that receipt.
        received_on: NaiveDate,
        /// What the unapplied amount is carried at, in base currency.
        carried: Money,
    },
}

/// An invoice to apply money to.
#[derive(Debug, Clone)]
pub struct OpenInvoice {
    /// Its id.
    pub id: InvoiceId,
    /// Its number.
    pub number: String,
    /// Whose it is.
    pub customer: CustomerId,
    /// Its currency.
    pub currency: Currency,
    /// When it was posted.
    pub posting_date: NaiveDate,
    /// When it is due.
    pub due_date: NaiveDate,
    /// What is open.
    pub open: Money,
    /// What the open amount is carried at, in base currency.
    pub open_base: Money,
}

/// An amount for an invoice.
#[derive(Debug, Clone)]
pub struct ToApply {
    /// The invoice.
    pub invoice: OpenInvoice,
    /// How much of the money goes to it.
    pub amount: Money,
}

/// Everything needed to decide on money in.
#[derive(Debug, Clone)]
pub struct MoneyInput<'a> {
    /// Whose money.
    pub customer: CustomerId,
    /// The customer's name.
    pub customer_name: String,
    /// The customer's class.
    pub customer_class: Option<String>,
    /// What the customer owes, in base currency.
    pub owes: Money,
    /// Where it comes from.
    pub source: Source,
    /// Date of the receipt, or of the applying.
    pub date: DocumentDate,
    /// The amount received, or unapplied.
    pub amount: Money,
    /// Its currency.
    pub currency: Currency,
    /// Base per unit of it, on the date.
    pub rate: Option<ExchangeRate>,
    /// Base currency.
    pub base: Currency,
    /// Where it goes.
    pub to_apply: Vec<ToApply>,
    /// Orders on those invoices.
    pub orders: Vec<OrderFacts>,
    /// The account map.
    pub accounts: &'a AccountMap,
    /// The periods.
    pub periods: &'a Periods,
}

/// An amount applied.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Applied {
    /// The invoice.
    pub invoice: InvoiceId,
    /// Its number.
    pub invoice_number: String,
    /// The amount.
    pub amount: Money,
    /// What the receivable gives up, in base currency.
    pub receivable_base: Money,
    /// What the money was carried at, in base currency.
    pub money_base: Money,
    /// What stays open on the invoice.
    pub open_after: Money,
}

/// What becomes of the money.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct MoneyDocument {
    /// Its date.
    pub date: DocumentDate,
    /// All of it.
    pub amount: Money,
    /// All of it in base currency.
    pub amount_base: Money,
    /// What is applied.
    pub applied: Vec<Applied>,
    /// What stays without a target.
    pub unapplied: Money,
    /// The same in base currency.
    pub unapplied_base: Money,
}

/// What posting does, or why it cannot be.
#[derive(Debug, Clone)]
pub struct MoneyDecision {
    /// The document.
    pub document: MoneyDocument,
    /// The entry.
    pub entry: Option<Entry>,
    /// The arithmetic.
    pub tape: Tape,
    /// What changes.
    pub changes: Vec<Change>,
    /// What the orders become.
    pub orders: Vec<OrderAfter>,
    /// What stands in the way, and warnings.
    pub blockers: Vec<Blocker>,
    /// Mark of what was seen.
    pub fingerprint: String,
}

/// Decides on a receipt, or on applying what lies unapplied.
pub fn decide(input: &MoneyInput<'_>) -> MoneyDecision {
    let mut findings = Findings::at(Step::Post);
    check(input, &mut findings);
    let document = settle(input);
    let entry = enter(input, &document, &mut findings);
    let (orders, order_changes) = compare(&input.orders, &orders_after(input, &document));
    let mut changes = vec![Change {
        label: "Customer owes".to_owned(),
        before: Some(Figure::money(input.owes)),
        after: Figure::money(input.owes - document.applied.iter().map(|applied| applied.receivable_base).sum()),
    }];
    changes.retain(|change| change.before.as_ref() != Some(&change.after));
    changes.extend(order_changes);
    MoneyDecision {
        tape: tape(input, &document),
        fingerprint: fingerprint::of(&(&document, &entry)),
        blockers: findings.finish(),
        document,
        entry,
        changes,
        orders,
    }
}

fn check(input: &MoneyInput<'_>, findings: &mut Findings) {
    let format = |amount: Money| input.currency.format(amount);
    if !input.amount.is_positive() {
        findings.add(Check::AmountNotPositive, "amount", "Enter an amount above zero.");
    }
    if let Some(obstacle) = input.periods.obstacle(input.date.date) {
        findings.add(Check::PeriodClosed, "date", obstacle);
    }
    if input.rate.is_none() {
        findings.add(
            Check::ExchangeRateMissing,
            "date",
            "No exchange rate is known for this date. Ask a lead to enter it.",
        );
    }
    if let Source::Unapplied { number, received_on, .. } = &input.source {
        if input.date.date < *received_on {
            findings.add(
                Check::DateTooEarly,
                "date",
                format!("{number} came in on {}. It cannot be applied before.", words(*received_on)),
            );
        }
        if input.to_apply.is_empty() {
            findings.add(Check::NothingToDo, "applications", "Give at least one invoice an amount.");
        }
    }
    let all: Money = input.to_apply.iter().map(|to_apply| to_apply.amount).sum();
    if all > input.amount && input.amount.is_positive() {
        findings.add(
            Check::MoreThanReceived,
            "applications",
            format!("{} is applied, but there is only {}. Lower an amount.", format(all), format(input.amount)),
        );
    }
    for (position, to_apply) in input.to_apply.iter().enumerate() {
        check_application(input, position, to_apply, findings);
    }
}

fn check_application(input: &MoneyInput<'_>, position: usize, to_apply: &ToApply, findings: &mut Findings) {
    let field = format!("applications.{position}.amount");
    let invoice = &to_apply.invoice;
    let at = Some(DocumentRef { kind: DocumentKind::Invoice, id: invoice.id.0, number: invoice.number.clone() });
    if input.to_apply[..position].iter().any(|other| other.invoice.id == invoice.id) {
        findings.add(Check::NamedTwice, field, format!("{} is named twice. Give it one amount.", invoice.number));
    } else if invoice.customer != input.customer {
        findings.add_at(
            Check::OtherCustomer,
            field,
            format!("{} belongs to another customer than {}.", invoice.number, input.customer_name),
            at,
        );
    } else if invoice.currency != input.currency {
        findings.add_at(
            Check::CurrencyDiffers,
            field,
            format!("{} is in {}, the money in {}.", invoice.number, invoice.currency, input.currency),
            at,
        );
    } else if !to_apply.amount.is_positive() {
        findings.add(
            Check::AmountNotPositive,
            field,
            format!("Apply more than nothing to {}, or leave it out.", invoice.number),
        );
    } else if to_apply.amount > invoice.open {
        findings.add_at(
            Check::MoreThanOpen,
            field,
            format!("{} has {} open. Apply that or less.", invoice.number, input.currency.format(invoice.open)),
            at,
        );
    } else if invoice.posting_date > input.date.date {
        findings.add_at(
            Check::DateTooEarly,
            field,
            format!(
                "{} was posted on {}, after {}. Apply the money on that day or later.",
                invoice.number,
                words(invoice.posting_date),
                words(input.date.date)
            ),
            at,
        );
    }
}

fn settle(input: &MoneyInput<'_>) -> MoneyDocument {
    let rate = input.rate.unwrap_or(ExchangeRate::ONE);
    let amount_base = match &input.source {
        Source::Received { .. } => input.amount.to_base(rate, input.currency, input.base),
        Source::Unapplied { carried, .. } => *carried,
    };
    let all: Money = input.to_apply.iter().map(|to_apply| to_apply.amount).sum();
    let unapplied = input.amount - all;
    let weights: Vec<i64> = input.to_apply.iter().map(|to_apply| to_apply.amount.0).chain([unapplied.0]).collect();
    let parts = spread(amount_base, &weights);
    let applied = input
        .to_apply
        .iter()
        .zip(&parts)
        .map(|(ToApply { invoice, amount }, money_base)| Applied {
            invoice: invoice.id,
            invoice_number: invoice.number.clone(),
            amount: *amount,
            // The last application releases all that is left.
            receivable_base: if *amount == invoice.open {
                invoice.open_base
            } else {
                invoice.open_base.share(amount.0, invoice.open.0)
            },
            money_base: *money_base,
            open_after: invoice.open - *amount,
        })
        .collect();
    MoneyDocument {
        date: input.date,
        amount: input.amount,
        amount_base,
        applied,
        unapplied,
        unapplied_base: parts.last().copied().unwrap_or_default(),
    }
}

fn enter(input: &MoneyInput<'_>, document: &MoneyDocument, findings: &mut Findings) -> Option<Entry> {
    let mut builder = EntryBuilder::new(input.accounts, input.customer_class.as_deref());
    let customer = || LineFor { customer: Some(input.customer), ..LineFor::default() };
    let all: Money = document.applied.iter().map(|applied| applied.amount).sum();
    let text = match &input.source {
        Source::Received { method } => {
            builder.add(
                method.purpose(),
                document.amount,
                document.amount_base,
                LineFor {
                    customer: (method.purpose() != Purpose::Bank).then_some(input.customer),
                    ..LineFor::default()
                },
            );
            format!("Receipt from {}", input.customer_name)
        }
        Source::Unapplied { number, .. } => {
            builder.add(Purpose::Unapplied, all, document.amount_base - document.unapplied_base, customer());
            format!("{number} of {} applied", input.customer_name)
        }
    };
    let mut difference = Money::ZERO;
    for applied in &document.applied {
        builder.add(Purpose::Receivable, -applied.amount, -applied.receivable_base, customer());
        difference += applied.receivable_base - applied.money_base;
    }
    if matches!(input.source, Source::Received { .. }) {
        builder.add(Purpose::Unapplied, -document.unapplied, -document.unapplied_base, customer());
    }
    builder.add(Purpose::FxDifference, Money::ZERO, difference, LineFor::default());
    let (entry, problems) = builder.finish(document.date.date, text, input.currency);
    let complete = problems.is_empty();
    for problem in problems {
        findings.add(Check::AccountMissing, "account_map", problem.to_string());
    }
    entry.filter(|_| complete)
}

fn tape(input: &MoneyInput<'_>, document: &MoneyDocument) -> Tape {
    let (subheading, first) = match &input.source {
        Source::Received { method } => {
            (format!("{} of {}", method.word(), words(document.date.date)), "Received".to_owned())
        }
        Source::Unapplied { number, received_on, .. } => {
            (format!("{number} of {}", words(*received_on)), "Unapplied".to_owned())
        }
    };
    let mut tape = Tape::new(input.customer_name.clone(), subheading, input.currency);
    tape.amount(TapeStyle::Line, first, document.amount);
    for (to_apply, applied) in input.to_apply.iter().zip(&document.applied) {
        tape.amount(TapeStyle::Line, format!("to {}", applied.invoice_number), -applied.amount);
        if applied.open_after.is_zero() {
            tape.remark(TapeStyle::Detail, "settled", false);
        } else {
            tape.part(TapeStyle::Detail, "stays open", to_apply.invoice.open, applied.open_after);
        }
    }
    tape.amount(TapeStyle::Due, "Stays unapplied", document.unapplied);
    tape.remark(TapeStyle::Detail, format!("dated {}", words(document.date.date)), !document.date.typed);
    tape
}

fn orders_after(input: &MoneyInput<'_>, document: &MoneyDocument) -> Vec<OrderFacts> {
    let mut after = input.orders.clone();
    for order in &mut after {
        for invoice in &mut order.invoices {
            for applied in document.applied.iter().filter(|applied| applied.invoice == invoice.invoice) {
                invoice.open -= applied.amount;
            }
        }
    }
    after
}

/// Proposes amounts for open invoices, oldest due date first, until the money is used up.
/// An invoice the clerk came from goes before all others.
pub fn oldest_first(amount: Money, invoices: &[OpenInvoice], first: Option<InvoiceId>) -> Vec<(InvoiceId, Money)> {
    let mut order: Vec<&OpenInvoice> = invoices.iter().collect();
    order.sort_by_key(|invoice| (Some(invoice.id) != first, invoice.due_date, invoice.id));
    let mut left = amount;
    let mut proposal = Vec::new();
    for invoice in order {
        let part = left.min(invoice.open);
        if part.is_positive() {
            proposal.push((invoice.id, part));
            left -= part;
        }
    }
    proposal
}
