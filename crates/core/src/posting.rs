//! Everything an operation does to the books, as one value.
//!
//! What an operation decided (an invoice, a receipt, a shipment, a credit …) becomes a [`Posting`]: its
//! entries, the open items it makes, what it ties to what, what leaves stock, what is billed, what its
//! orders become. The books are written from that value by one function and by nothing else, so that a
//! new kind of document or payment is a decision that makes one, and no writing of its own.
//! *Source: domain.md sections 1 and 11; docs/architecture.md, one posting.*
//!
//! ```
//! use till_core::posting::{Posting, Which};
//! use till_core::ids::OpenItemId;
//! // An item this very posting makes, and one that is there already.
//! let (new, known) = (Which::New(0), Which::Known(OpenItemId(7)));
//! assert_ne!(new, known);
//! assert!(Posting::default().entries.is_empty());
//! ```

use chrono::NaiveDate;

use crate::accounts::Purpose;
use crate::calendar::Terms;
use crate::deposit::HeldTax;
use crate::entry::Entry;
use crate::fixed::Quantity;
use crate::ids::{
    ApplicationId, CustomerId, DocumentRef, EntryId, InspectionId, InvoiceId, ItemId, LayerId, OpenItemId, OrderLineId,
    PrepaidId, ReturnLineId, ReturnStepId, ShipmentLineId,
};
use crate::invoice::{InvoiceDocument, ItemKind};
use crate::money::{Currency, Money};
use crate::open_items::Side;
use crate::order::OrderAfter;
use crate::prepayment::Part;
use crate::settle::BesideBooked;
use crate::settle::back::Reversal;
use crate::stock::Issue;

/// What an operation does to the books. The document it is of, its number and its id are the writer's to give.
#[derive(Debug, Clone, Default)]
pub struct Posting {
    /// The entries, in their order, each with the one it takes back.
    pub entries: Vec<Reversal>,
    /// The open items it makes.
    pub items: Vec<NewItem>,
    /// What it ties to what.
    pub applications: Vec<NewApplication>,
    /// What is billed, or given back to be billed again.
    pub billed: Vec<Billed>,
    /// What came back before it was billed, and is the order's again.
    pub given_back: Vec<GivenBack>,
    /// What is used of what was prepaid, or given back to it.
    pub prepaid: Vec<PrepaidMove>,
    /// What leaves layers of stock, or goes back into them.
    pub stock: Vec<StockMove>,
    /// Layers that come into being.
    pub layers: Vec<NewLayer>,
    /// Returned goods that come to the inspection place.
    pub inspection: Vec<NewInspection>,
    /// What leaves the inspection place, or goes back there.
    pub inspected: Vec<InspectionMove>,
    /// Returnable packaging that goes to a customer, or comes back.
    pub containers: Vec<ContainerMove>,
    /// What its orders become.
    pub orders: Vec<OrderAfter>,
}

impl Posting {
    /// Adds an entry where there is one. Returns its place.
    pub(crate) fn enter(&mut self, entry: Option<Entry>, reverses: Option<EntryId>) -> Option<usize> {
        let entry = entry?;
        self.entries.push(Reversal { entry, reverses });
        Some(self.entries.len() - 1)
    }

    /// Adds an entry that takes another one back.
    pub fn take_back(&mut self, entry: Entry, reverses: EntryId) {
        self.entries.push(Reversal { entry, reverses: Some(reverses) });
    }

    /// Adds an open item. Returns which it is.
    pub(crate) fn make(&mut self, item: NewItem) -> Which {
        self.items.push(item);
        Which::New(self.items.len() - 1)
    }
}

/// An open item that a posting makes: all of it open.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NewItem {
    /// Whose account it stands on.
    pub customer: CustomerId,
    /// The kind of control account.
    pub purpose: Purpose,
    /// Number of the very account of its balance; none where it has no balance.
    pub account: Option<String>,
    /// Who owes it.
    pub side: Side,
    /// The document it comes from, where that is not the document of the posting.
    pub document: Option<DocumentRef>,
    /// Its currency.
    pub currency: Currency,
    /// What it comes to, in its currency; never below zero.
    pub amount: Money,
    /// What it is carried at, in base currency.
    pub amount_base: Money,
    /// From this day on it is there.
    pub posting_date: NaiveDate,
    /// Starts its terms.
    pub document_date: NaiveDate,
    /// None where it is due at once.
    pub terms: Option<Terms>,
    /// When its first part is due.
    pub due_date: NaiveDate,
    /// Tax that stands on it, where money in advance was taxed as it came in.
    pub taxes: Vec<HeldTax>,
}

impl NewItem {
    /// An item that is due at once: a credit, money without a target, what takes a receipt back.
    pub(crate) fn due_at_once(
        (customer, purpose, side): (CustomerId, Purpose, Side),
        account: Option<&str>,
        currency: Currency,
        (amount, amount_base): (Money, Money),
        date: NaiveDate,
    ) -> Self {
        Self {
            customer,
            purpose,
            account: account.map(str::to_owned),
            side,
            document: None,
            currency,
            amount,
            amount_base,
            posting_date: date,
            document_date: date,
            terms: None,
            due_date: date,
            taxes: Vec::new(),
        }
    }
}

/// An item of this very posting, by its place, or one that is in the books.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Which {
    /// By its place among the items of the posting.
    New(usize),
    /// By its id.
    Known(OpenItemId),
}

/// What is owed to us tied to what is owed by us. With the signs turned it takes another one back.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NewApplication {
    /// When.
    pub date: NaiveDate,
    /// What is owed to us.
    pub debit: Which,
    /// What is owed by us.
    pub credit: Which,
    /// How much of the debit, in its currency, and what that releases in base currency.
    pub debit_amount: (Money, Money),
    /// The same of the credit.
    pub credit_amount: (Money, Money),
    /// What of the debit is settled without money; the signs of the amounts.
    pub beside: BesideBooked,
    /// Tax that goes with it, where the credit is money in advance that was taxed as it came in; the signs of the
    /// amounts.
    pub taxes: Vec<HeldTax>,
    /// The application it takes back.
    pub reverses: Option<ApplicationId>,
    /// The entry it is made by, by its place in the posting; none where the two are only matched.
    pub entry: Option<usize>,
}

/// A quantity of a shipment line, or of an order line that needs no shipment, that is billed; below zero
/// where it is given back to be billed again.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Billed {
    /// The shipment line; none for work and charges of an order.
    pub shipment_line: Option<ShipmentLineId>,
    /// The order line.
    pub order_line: OrderLineId,
    /// How much, in the unit sold.
    pub quantity: Quantity,
    /// The cost that follows it, in base currency.
    pub cost: Money,
}

/// A quantity of a shipment line that came back before it was billed: its order has it to ship again. Below zero where its
/// receipt is reversed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct GivenBack {
    /// The shipment line.
    pub shipment_line: ShipmentLineId,
    /// How much, in the unit sold.
    pub quantity: Quantity,
    /// What of its cost waited for its billing and waits no longer, in base currency.
    pub released: Money,
}

/// What a line of an invoice uses of what was prepaid; below zero where the invoice is canceled.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct PrepaidMove {
    /// The row of the register.
    pub prepaid: PrepaidId,
    /// The position of the line that uses it.
    pub line: usize,
    /// The invoice that is canceled; none for the document of the posting.
    pub canceled: Option<InvoiceId>,
    /// When.
    pub date: NaiveDate,
    /// How much.
    pub part: Part,
}

impl PrepaidMove {
    /// What the lines of an invoice use.
    pub(crate) fn of(document: &InvoiceDocument) -> impl Iterator<Item = Self> {
        let date = document.posting_date.date;
        document.lines.iter().enumerate().flat_map(move |(line, of)| {
            let used = of.prepaid.iter();
            used.map(move |used| Self { prepaid: used.prepaid, line, canceled: None, date, part: used.part })
        })
    }
}

/// Goods that leave a layer of stock, or go back into it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct StockMove {
    /// The layer.
    pub layer: LayerId,
    /// When.
    pub date: NaiveDate,
    /// How much leaves, in stock units; below zero where it goes back.
    pub quantity: Quantity,
    /// Its cost, in base currency, with the same sign.
    pub cost: Money,
    /// What it leaves with.
    pub with: MovedWith,
}

/// What goods leave a layer with, or go back into it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum MovedWith {
    /// A line of a shipment.
    ShipmentLine(ShipmentLineId),
    /// A line of an invoice that stands on no shipment, by its position: of the document of the posting, or
    /// of the invoice that is canceled with it.
    DocumentLine {
        /// The invoice that is canceled; none for the document of the posting.
        invoice: Option<InvoiceId>,
        /// The position of the line.
        line: usize,
    },
    /// A count: the document of the posting.
    Count,
    /// The goods receipt that made the layer, reversed.
    Intake,
    /// A step of a return: a replacement at no charge, or restocked goods that were none.
    ReturnStep(ReturnStepId),
}

impl StockMove {
    /// What is taken from the layers.
    pub(crate) fn out(issues: &[Issue], date: NaiveDate, with: MovedWith) -> impl Iterator<Item = Self> {
        issues.iter().map(move |issue| Self {
            layer: issue.layer,
            date,
            quantity: issue.quantity,
            cost: issue.cost,
            with,
        })
    }

    /// The same, put back on a day.
    pub(crate) fn back(&self, date: NaiveDate) -> Self {
        Self { date, quantity: Quantity::from_scaled(-self.quantity.scaled()), cost: -self.cost, ..*self }
    }
}

/// Goods that come into stock.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NewLayer {
    /// The item.
    pub item: ItemId,
    /// Where.
    pub warehouse: String,
    /// When.
    pub date: NaiveDate,
    /// How much, in stock units.
    pub quantity: Quantity,
    /// What all of it cost, in base currency.
    pub cost: Money,
    /// The step of a return that restocked it; none where it came in otherwise.
    pub step: Option<ReturnStepId>,
}

/// Returned goods that come to the inspection place.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NewInspection {
    /// The step of the return they come with.
    pub step: ReturnStepId,
    /// The line of the return.
    pub line: ReturnLineId,
    /// The item.
    pub item: ItemId,
    /// At which warehouse.
    pub warehouse: String,
    /// When.
    pub date: NaiveDate,
    /// How much, in stock units.
    pub quantity: Quantity,
    /// What they left with, in base currency.
    pub cost: Money,
}

/// Goods that leave the inspection place, or go back there.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct InspectionMove {
    /// What they are of.
    pub inspection: InspectionId,
    /// The step of the return they leave with.
    pub step: ReturnStepId,
    /// When.
    pub date: NaiveDate,
    /// How much leaves, in stock units; below zero where it goes back.
    pub quantity: Quantity,
    /// Its cost, in base currency, with the same sign.
    pub cost: Money,
}

/// Returnable packaging that goes to a customer; below zero where it comes back.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct ContainerMove {
    /// The customer.
    pub customer: CustomerId,
    /// The packaging.
    pub item: ItemId,
    /// When.
    pub date: NaiveDate,
    /// How many.
    pub quantity: Quantity,
    /// What was charged for them, in base currency.
    pub amount: Money,
    /// The invoice that is canceled with it; none where the document of the posting moves it.
    pub canceled: Option<InvoiceId>,
}

/// Packaging on the lines of an invoice, on its way to the customer.
pub(crate) fn containers_of(document: &InvoiceDocument) -> impl Iterator<Item = ContainerMove> {
    document.lines.iter().filter(|line| line.kind == ItemKind::Packaging).filter_map(|line| {
        Some(ContainerMove {
            customer: document.customer,
            item: line.item?,
            date: document.posting_date.date,
            quantity: line.quantity,
            amount: line.net,
            canceled: None,
        })
    })
}

/// The account an entry puts a purpose on, where it does.
pub(crate) fn account_of(entry: Option<&Entry>, purpose: Purpose) -> Option<&str> {
    entry?.lines.iter().find(|line| line.purpose == purpose).map(|line| line.account.as_str())
}
