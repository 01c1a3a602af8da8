//! Ids: one type each, so that an order is never taken for an invoice.
//!
//! ```
//! use till_core::ids::{DocumentKind, DocumentRef};
//! let memo = DocumentRef { kind: DocumentKind::CreditMemo, id: 9, number: "CM-9".to_owned() };
//! assert_eq!(DocumentKind::of(memo.kind.word()), Some(DocumentKind::CreditMemo));
//! ```

use serde::{Deserialize, Serialize};

macro_rules! ids {
    ($($(#[$doc:meta])* $name:ident),+ $(,)?) => {$(
        $(#[$doc])*
        #[derive(Debug, Clone, Copy, Default, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
        #[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
        #[serde(transparent)]
        pub struct $name(pub i64);

        impl std::fmt::Display for $name {
            fn fmt(&self, formatter: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
                self.0.fmt(formatter)
            }
        }
    )+};
}

ids! {
    /// A statement of a bank account.
    BankStatementId,
    /// A line of one.
    BankLineId,
    /// What a line is cleared against.
    BankMatchId,
    /// Checks and cash that are taken to the bank together.
    BankSlipId,
    /// A credit memo that is not posted yet.
    CreditDraftId,
    /// What a customer will not pay of an open item.
    DisputeId,
    /// A customer.
    CustomerId,
    /// Where goods of a customer go.
    ShipToId,
    /// Something sold.
    ItemId,
    /// A customer's order.
    OrderId,
    /// A line of an order.
    OrderLineId,
    /// A shipment.
    ShipmentId,
    /// A line of a shipment.
    ShipmentLineId,
    /// An invoice, draft or posted.
    InvoiceId,
    /// A receipt.
    ReceiptId,
    /// Something on a customer account that carries a balance.
    OpenItemId,
    /// An amount of one open item tied to another.
    ApplicationId,
    /// Containers that were brought back.
    ContainerReturnId,
    /// A balance the books were opened with.
    OpeningId,
    /// A journal entry.
    EntryId,
    /// A layer of stock with its cost.
    LayerId,
    /// Someone who signs in.
    PersonId,
    /// Something that waits for approval.
    ApprovalId,
    /// A quote.
    QuoteId,
    /// A call-off order.
    CallOffId,
    /// A request for payment in advance.
    PaymentRequestId,
    /// A line of a prepayment invoice: what was billed in advance of an order line.
    PrepaidId,
    /// A line of a call-off order.
    CallOffLineId,
    /// Someone at a customer, or someone who is not one yet.
    ContactId,
    /// A price list.
    PriceListId,
    /// A file that was read.
    ImportId,
    /// A credit memo.
    CreditMemoId,
    /// A billing run.
    RunId,
    /// A document on its way to the customer.
    DeliveryId,
    /// A customer deposit.
    DepositId,
    /// A card of a customer, without its number.
    CardId,
    /// A card authorization.
    CardAuthorizationId,
    /// Money captured of a card.
    CardCaptureId,
    /// Money that went back to a card.
    CardReturnId,
    /// An estimate that is entered as a whole.
    EstimateId,
    /// What was paid back of unapplied money, or of a credit memo.
    RefundId,
    /// A picture that belongs to a return.
    PictureId,
    /// A claim on a supplier: goods that went back to them with an inspection.
    ClaimId,
    /// What a supplier answered to a claim.
    ClaimAnswerId,
    /// What the card processor paid out.
    CardPayoutId,
    /// Something that is asked of the card processor.
    CardCallId,
    /// A link to a customer's own page.
    PageLinkId,
    /// A line of an invoice or a credit memo.
    DocumentLineId,
    /// Goods that a customer may send back.
    ReturnId,
    /// A line of a return.
    ReturnLineId,
    /// Something that was done with the goods of a return: received, inspected, replaced.
    ReturnStepId,
    /// Returned goods that came together and wait for inspection, with their cost.
    InspectionId,
}

/// A document of the application, as named in trails, blockers and entries.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum DocumentKind {
    /// A customer and its account.
    Customer,
    /// An item.
    Item,
    /// An order.
    Order,
    /// A shipment.
    Shipment,
    /// Goods coming into stock.
    Intake,
    /// An invoice.
    Invoice,
    /// A receipt.
    Receipt,
    /// The tying of unapplied money to invoices.
    Application,
    /// Balances the books were opened with.
    Opening,
    /// A journal entry.
    Entry,
    /// Someone who signs in.
    Person,
    /// Something that waits, or waited, for approval.
    Approval,
    /// A setting of the company: numbers, periods, limits.
    Setting,
    /// A quote.
    Quote,
    /// A call-off order.
    CallOff,
    /// Stock put right after a count.
    Adjustment,
    /// A price list.
    PriceList,
    /// A file of orders or shipments.
    Import,
    /// A credit memo.
    CreditMemo,
    /// A billing run.
    Run,
    /// A document on its way to the customer.
    Delivery,
    /// Empty containers that a customer brought back.
    ContainerReturn,
    /// Money taken in advance on purpose.
    Deposit,
    /// A deposit refunded or kept as income.
    DepositEnd,
    /// A request for payment in advance: no entry before it is paid.
    PaymentRequest,
    /// A card authorized for an order.
    CardAuthorization,
    /// Unapplied money, or a credit memo, paid back.
    Refund,
    /// Money sent back to a card, or taken back by its bank.
    CardReturn,
    /// What the card processor paid out.
    CardPayout,
    /// Goods that a customer may send back.
    Return,
    /// What is estimated and entered as a whole: returns that are expected.
    Estimate,
    /// Goods that were back and not credited at the end of a month.
    ReturnAccrual,
    /// A statement of a bank account.
    BankStatement,
    /// Checks and cash that are taken to the bank together.
    BankSlip,
    /// A credit memo that is not posted yet.
    CreditDraft,
}

impl DocumentKind {
    /// The word kept in the database and shown in addresses.
    pub const fn word(self) -> &'static str {
        match self {
            Self::Customer => "customer",
            Self::Item => "item",
            Self::Order => "order",
            Self::Shipment => "shipment",
            Self::Intake => "intake",
            Self::Invoice => "invoice",
            Self::Receipt => "receipt",
            Self::Application => "application",
            Self::Opening => "opening",
            Self::Entry => "entry",
            Self::Person => "person",
            Self::Approval => "approval",
            Self::Setting => "setting",
            Self::Quote => "quote",
            Self::CallOff => "call_off",
            Self::Adjustment => "adjustment",
            Self::PriceList => "price_list",
            Self::Import => "import",
            Self::CreditMemo => "credit_memo",
            Self::Run => "run",
            Self::Delivery => "delivery",
            Self::ContainerReturn => "container_return",
            Self::Deposit => "deposit",
            Self::DepositEnd => "deposit_end",
            Self::PaymentRequest => "payment_request",
            Self::CardAuthorization => "card_authorization",
            Self::Refund => "refund",
            Self::CardReturn => "card_return",
            Self::CardPayout => "card_payout",
            Self::Return => "return",
            Self::Estimate => "estimate",
            Self::ReturnAccrual => "return_accrual",
            Self::BankStatement => "bank_statement",
            Self::BankSlip => "bank_slip",
            Self::CreditDraft => "credit_draft",
        }
    }

    /// The kind with this word.
    pub fn of(word: &str) -> Option<Self> {
        [
            Self::Customer,
            Self::Item,
            Self::Order,
            Self::Shipment,
            Self::Intake,
            Self::Invoice,
            Self::Receipt,
            Self::Application,
            Self::Opening,
            Self::Entry,
            Self::Person,
            Self::Approval,
            Self::Setting,
            Self::Quote,
            Self::CallOff,
            Self::Adjustment,
            Self::PriceList,
            Self::Import,
            Self::CreditMemo,
            Self::Run,
            Self::Delivery,
            Self::ContainerReturn,
            Self::Deposit,
            Self::DepositEnd,
            Self::PaymentRequest,
            Self::CardAuthorization,
            Self::Refund,
            Self::CardReturn,
            Self::CardPayout,
            Self::Return,
            Self::Estimate,
            Self::ReturnAccrual,
            Self::BankStatement,
            Self::BankSlip,
            Self::CreditDraft,
        ]
        .into_iter()
        .find(|kind| kind.word() == word)
    }
}

/// Points at a document.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct DocumentRef {
    /// What it is.
    pub kind: DocumentKind,
    /// Its id.
    pub id: i64,
    /// Its number as people say it.
    pub number: String,
}
