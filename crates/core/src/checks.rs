//! Blockers: one table of checks, each with the steps it concerns and what it does there.
//!
//! *Source: domain.md section 6.* Limit and stop of a customer never prevent billing what
//! has already gone out.
//!
//! ```
//! use till_core::checks::{Check, Effect, Findings, Step, stops};
//! // The same finding warns where an order is confirmed and stops where goods leave.
//! assert_eq!(Check::StockShort.effect(Step::Confirm), Some(Effect::Warns));
//! let mut findings = Findings::at(Step::Ship);
//! findings.add(Check::StockShort, "lines.0.quantity", "Only 4 are on hand. Ship 4, or wait for more.");
//! findings.add(Check::MoreThanUnbilled, "lines.0.quantity", "No business of this step.");
//! let found = findings.finish();
//! assert!(found.len() == 1 && stops(&found));
//! ```

use serde::{Deserialize, Serialize};

use crate::ids::DocumentRef;

/// A step a document can take.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum Step {
    /// An order is written down, not binding yet.
    Draft,
    /// A price is promised, before anything is ordered.
    Quote,
    /// Orders are imported from a file: what is missing can follow on the draft.
    Import,
    /// An order becomes binding.
    Confirm,
    /// An order is binding already: what will stop its goods or its invoice. Who was confirmed is not
    /// asked for approval again.
    Follow,
    /// Goods leave.
    Ship,
    /// Lines go on a draft.
    Bill,
    /// A document is written to the books.
    Post,
    /// A posted document goes out to the customer.
    Send,
}

/// What a check does at a step.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum Effect {
    /// Says so and goes on.
    Warns,
    /// The step waits for someone's approval.
    Asks,
    /// The step is not taken.
    Stops,
}

macro_rules! checks {
    ($($(#[$doc:meta])* $variant:ident => [$($step:ident $effect:ident),+]),+ $(,)?) => {
        /// A check. The table beside it says which steps it concerns.
        #[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
        #[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
        #[serde(rename_all = "snake_case")]
        pub enum Check { $($(#[$doc])* $variant),+ }

        impl Check {
            /// Every check.
            pub const ALL: &'static [Self] = &[$(Self::$variant),+];

            /// What it does at a step; `None` where the step is none of its business.
            pub fn effect(self, step: Step) -> Option<Effect> {
                let table: &[(Step, Effect)] = match self {
                    $(Self::$variant => &[$((Step::$step, Effect::$effect)),+]),+
                };
                table.iter().find(|(concerned, _)| *concerned == step).map(|(_, effect)| *effect)
            }
        }
    };
}

checks! {
    /// Nothing was picked, or no line was given.
    NothingToDo => [Draft Stops, Quote Stops, Import Stops, Confirm Stops, Ship Stops, Bill Stops, Post Stops],
    /// A quantity of zero or below.
    QuantityNotPositive => [Draft Stops, Quote Stops, Import Stops, Confirm Stops, Ship Stops, Bill Stops, Post Stops],
    /// More than the order line still has to ship.
    MoreThanOrdered => [Ship Stops],
    /// Stock would fall below zero.
    StockShort => [Import Warns, Confirm Warns, Follow Warns, Ship Stops, Bill Warns, Post Stops],
    /// More than is shipped and not yet billed.
    MoreThanUnbilled => [Bill Stops, Post Stops],
    /// What is to go on one document differs in something that must be the same.
    CannotCombine => [Bill Stops, Post Stops],
    /// The customer wants its order number on every invoice and the order has none.
    OrderNumberMissing => [Import Warns, Confirm Warns, Follow Warns, Bill Warns, Post Stops],
    /// A tax category asks for the buyer's tax id and there is none.
    TaxIdMissing => [Import Warns, Confirm Warns, Follow Warns, Bill Warns, Post Stops],
    /// A line has a tax code without a rate on the tax date.
    TaxRateMissing => [Import Warns, Confirm Warns, Follow Warns, Bill Warns, Post Stops],
    /// A stock item is sold for nothing.
    PriceZero => [Import Warns, Confirm Stops, Bill Warns, Post Warns],
    /// Something is sold for less than nothing.
    PriceBelowZero => [Bill Stops, Post Stops],
    /// A changed price makes more of a difference than was allowed.
    PriceNotApproved => [Bill Warns, Post Stops],
    /// Something asked for of the draft waits for someone's word.
    WaitsForApproval => [Bill Warns, Post Stops],
    /// A discount over the document that takes off more than there is, or has no reason.
    DiscountNotAllowed => [Bill Stops, Post Stops],
    /// A line to an account that earns no revenue.
    NotRevenue => [Bill Stops, Post Stops],
    /// The invoice is cancelled already, or something that followed stands in the way.
    CannotCancel => [Post Stops],
    /// The line cannot be credited, or nothing of it.
    CannotCredit => [Post Stops],
    /// More than was billed less what was credited.
    MoreThanBilled => [Post Stops],
    /// The document goes out by email and there is no address.
    NoMailAddress => [Post Warns, Send Stops],
    /// What a structured invoice must say is not known.
    StructuredDataMissing => [Bill Warns, Post Warns, Send Stops],
    /// Tax by line for a customer who gets structured invoices, which carry it by code.
    StructuredTax => [Bill Warns, Post Stops, Send Stops],
    /// Another tax code, a price of zero, a price below what was agreed or a discount, without a reason.
    ReasonMissing => [Import Warns, Confirm Stops, Bill Warns, Post Stops],
    /// Typed prices and discounts of an order give away more than who confirms it may.
    PriceGivenAway => [Import Asks, Confirm Asks],
    /// A date some way after today's.
    DateAhead => [Bill Warns, Post Warns],
    /// A line or a document comes to more than the books can hold.
    AmountTooLarge => [Draft Stops, Quote Stops, Import Stops, Confirm Stops, Bill Stops, Post Stops],
    /// The account map leads nowhere.
    AccountMissing => [Import Warns, Confirm Warns, Follow Warns, Ship Stops, Bill Warns, Post Stops],
    /// The posting date lies in a closed period.
    PeriodClosed => [Ship Stops, Bill Warns, Post Stops],
    /// The document date is before that of the last invoice, or after the posting date.
    DateOutOfOrder => [Bill Warns, Post Warns],
    /// The document date is before that of the last invoice, where the company wants them in order.
    DateBeforeLast => [Bill Warns, Post Stops],
    /// A date before what it follows from.
    DateTooEarly => [Ship Stops, Bill Stops, Post Stops],
    /// The customer is on hold.
    CustomerOnStop => [Import Asks, Confirm Asks, Ship Stops, Bill Warns, Post Warns],
    /// The order takes the customer over its credit limit.
    CreditLimit => [Import Asks, Confirm Asks, Ship Warns],
    /// The order is worth more than who confirms it may confirm.
    OrderAmount => [Import Asks, Confirm Asks],
    /// An exemption from tax without a certificate, or after its last day.
    ExemptionExpired => [Import Warns, Confirm Warns, Follow Warns, Bill Warns, Post Stops],
    /// An address typed once lies in another country than the ship-to that says how it is taxed.
    AddressElsewhere => [Quote Warns, Import Warns, Confirm Stops],
    /// The company has not said which tax code a treatment leads to.
    TreatmentWithoutCode => [Draft Stops, Quote Stops, Import Stops, Confirm Stops, Bill Stops, Post Stops],
    /// An account demands a reporting code that a line does not have.
    ReportingCodeMissing => [Import Warns, Confirm Warns, Follow Warns, Ship Stops, Bill Warns, Post Stops],
    /// A required field of the company's own is empty.
    OwnFieldMissing => [Confirm Stops],
    /// An own field or reporting code holds what it cannot.
    MarkNotAllowed => [Draft Stops, Quote Stops, Import Stops, Confirm Stops, Bill Stops, Post Stops],
    /// A unit the item is not sold in, a quantity below its least or between its steps.
    UnitOrStep => [Draft Stops, Quote Stops, Import Stops, Confirm Stops, Bill Stops, Post Stops],
    /// A promotion that does not run on the day, a price that cannot be made.
    PriceNotMade => [Draft Stops, Quote Stops, Import Stops, Confirm Stops, Bill Stops, Post Stops],
    /// More than a call-off has left.
    MoreThanCalledOff => [Draft Stops, Quote Stops, Import Stops, Confirm Stops],
    /// An amended line would be less than what has shipped, is being shipped or was cancelled.
    LessThanShipped => [Draft Stops, Quote Stops, Import Stops, Confirm Stops],
    /// Something that is not sold any more.
    NotSold => [Draft Stops, Quote Stops, Import Stops, Confirm Stops, Bill Stops, Post Stops],
    /// Returnable packaging goes to customers in base currency only.
    ContainerCurrency => [Draft Stops, Quote Stops, Import Stops, Confirm Stops, Bill Stops, Post Stops],
    /// Something of the shipment is billed or stands on a draft.
    AlreadyBilled => [Ship Stops],
    /// A goods receipt of which something has left, or that is none.
    AlreadyLeft => [Ship Stops, Post Stops],
    /// An amount of zero or below.
    AmountNotPositive => [Post Stops],
    /// Applied more than the invoice has open.
    MoreThanOpen => [Post Stops],
    /// A discount for early payment that was not earned.
    DiscountNotEarned => [Post Stops],
    /// More too much came, or is kept, than the company's tolerance.
    MoreThanTolerance => [Post Stops],
    /// More is written off than the company's tolerance: whose limit lets may.
    AboveTolerance => [Post Warns],
    /// Applied more than the receipt has left.
    MoreThanReceived => [Post Stops],
    /// More than is held of a deposit, or than the invoice has for it.
    MoreThanHeld => [Bill Stops, Post Stops],
    /// A share of more than all, or nothing that could be billed in advance.
    AdvancePercent => [Post Stops],
    /// What was billed in advance of the order is not paid, and its goods wait for that.
    PrepaymentUnpaid => [Ship Stops],
    /// Deposits that come to more than their order, or more is asked in advance than is left to bill.
    MoreThanOrder => [Post Stops],
    /// Receipt and invoice are in different currencies.
    CurrencyDiffers => [Post Stops],
    /// A card authorization that cannot be charged: declined, given up, over, or not answered yet.
    CardNotLive => [Post Stops],
    /// More than is left of a card authorization.
    MoreThanAuthorized => [Post Stops],
    /// A payout of which a line is not in the books as it says, or that does not add up.
    PayoutUnmatched => [Post Stops],
    /// No name that a quote could be accepted by.
    NameMissing => [Post Stops],
    /// A quote that is decided, over, or not the one that was seen.
    QuoteDecided => [Post Stops],
    /// The invoice belongs to another customer.
    OtherCustomer => [Post Stops],
    /// More than may still come back of what was billed.
    MoreThanReturnable => [Post Stops],
    /// More than came back and is not settled, or waits for inspection.
    MoreThanReturned => [Post Stops],
    /// A day that is not the last of its month, where a month is ended.
    NotMonthEnd => [Post Stops],
    /// More than is open of a claim on a supplier.
    MoreThanClaimed => [Post Stops],
    /// A return that was closed, or whose last day has passed.
    ReturnOver => [Post Stops],
    /// Goods that come back of which the books know no cost.
    NoCostKnown => [Post Warns],
    /// No document shows that goods were sold that come back, and the company asks for one.
    ProofMissing => [Post Stops],
    /// No document shows it, and the company wants to be told.
    ProofAdvised => [Post Warns],
    /// The same thing is named twice.
    NamedTwice => [Ship Stops, Bill Stops, Post Stops],
    /// No exchange rate is known for the date.
    ExchangeRateMissing => [Import Warns, Confirm Stops, Bill Warns, Post Stops],
}

impl Check {
    /// In a few words, for a row of a list.
    pub const fn words(self) -> &'static str {
        match self {
            Self::NothingToDo => "nothing to do",
            Self::QuantityNotPositive => "quantity of zero or below",
            Self::MoreThanOrdered => "more than ordered",
            Self::StockShort => "stock is short",
            Self::MoreThanUnbilled => "more than is unbilled",
            Self::CannotCombine => "cannot go together",
            Self::OrderNumberMissing => "customer PO missing",
            Self::TaxIdMissing => "no tax id",
            Self::TaxRateMissing => "no tax rate",
            Self::CardNotLive => "card cannot be charged",
            Self::MoreThanAuthorized => "more than authorized",
            Self::PayoutUnmatched => "payout not matched",
            Self::PriceZero => "price of zero",
            Self::PriceBelowZero => "price below zero",
            Self::PriceNotApproved => "price not approved",
            Self::WaitsForApproval => "pending approval",
            Self::DiscountNotAllowed => "discount not allowed",
            Self::NotRevenue => "no revenue account",
            Self::CannotCancel => "cannot be canceled",
            Self::CannotCredit => "cannot be credited",
            Self::MoreThanBilled => "more than billed",
            Self::NoMailAddress => "no email address",
            Self::StructuredDataMissing => "structured data missing",
            Self::StructuredTax => "tax by line",
            Self::ReasonMissing => "no reason",
            Self::DateAhead => "date in the future",
            Self::AccountMissing => "no account",
            Self::PeriodClosed => "period closed",
            Self::DateOutOfOrder => "date out of order",
            Self::DateBeforeLast => "date before the last",
            Self::DateTooEarly => "date too early",
            Self::CustomerOnStop => "customer on hold",
            Self::CreditLimit => "over the credit limit",
            Self::OrderAmount => "above the limit",
            Self::AmountTooLarge => "amount too large",
            Self::AddressElsewhere => "address abroad",
            Self::PriceGivenAway => "gives much away",
            Self::ExemptionExpired => "exemption ended",
            Self::TreatmentWithoutCode => "no code for the treatment",
            Self::ReportingCodeMissing => "reporting code missing",
            Self::OwnFieldMissing => "field missing",
            Self::MarkNotAllowed => "field not allowed",
            Self::UnitOrStep => "unit or step",
            Self::PriceNotMade => "no price",
            Self::MoreThanCalledOff => "more than called off",
            Self::LessThanShipped => "less than shipped",
            Self::NotSold => "not sold any more",
            Self::ContainerCurrency => "packaging abroad",
            Self::AlreadyBilled => "billed already",
            Self::AlreadyLeft => "has left",
            Self::AmountNotPositive => "no amount",
            Self::MoreThanOpen => "more than is open",
            Self::DiscountNotEarned => "discount not earned",
            Self::MoreThanTolerance | Self::AboveTolerance => "above the tolerance",
            Self::MoreThanReceived => "more than came in",
            Self::MoreThanHeld => "more than is held",
            Self::AdvancePercent => "advance % out of range",
            Self::PrepaymentUnpaid => "prepayment not paid",
            Self::MoreThanOrder => "more than the order",
            Self::CurrencyDiffers => "other currency",
            Self::NameMissing => "no name",
            Self::QuoteDecided => "quote decided",
            Self::OtherCustomer => "other customer",
            Self::MoreThanReturnable => "more than may come back",
            Self::MoreThanReturned => "more than came back",
            Self::NotMonthEnd => "not a month's end",
            Self::MoreThanClaimed => "more than was claimed",
            Self::ReturnOver => "return is over",
            Self::NoCostKnown => "no cost known",
            Self::ProofMissing | Self::ProofAdvised => "no document shows the sale",
            Self::NamedTwice => "named twice",
            Self::ExchangeRateMissing => "no exchange rate",
        }
    }
}

/// One reason why a document cannot take a step, or a warning on the way.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Blocker {
    /// Which check.
    pub check: Check,
    /// What it does at the step asked about.
    pub effect: Effect,
    /// The field to fix, as named in the request: `lines.2.quantity`, `customer.tax_id`.
    pub field: String,
    /// What is wrong in a few words.
    pub words: String,
    /// What is wrong and what to do.
    pub sentence: String,
    /// Where the field is, when it is not on this document.
    pub at: Option<DocumentRef>,
}

/// Collects the findings of checks for one step.
#[derive(Debug)]
pub struct Findings {
    step: Step,
    found: Vec<Blocker>,
}

impl Findings {
    /// For a step.
    pub const fn at(step: Step) -> Self {
        Self { step, found: Vec::new() }
    }

    /// Notes a finding, if the check concerns the step.
    pub fn add(&mut self, check: Check, field: impl Into<String>, sentence: impl Into<String>) {
        self.add_at(check, field, sentence, None);
    }

    /// Notes a finding whose field is on another document.
    pub fn add_at(
        &mut self,
        check: Check,
        field: impl Into<String>,
        sentence: impl Into<String>,
        at: Option<DocumentRef>,
    ) {
        let Some(effect) = check.effect(self.step) else { return };
        let blocker = Blocker {
            check,
            effect,
            field: field.into(),
            words: check.words().to_owned(),
            sentence: sentence.into(),
            at,
        };
        if !self.found.contains(&blocker) {
            self.found.push(blocker);
        }
    }

    /// What was found: what stops first.
    pub fn finish(mut self) -> Vec<Blocker> {
        self.found.sort_by_key(|blocker| std::cmp::Reverse(blocker.effect));
        self.found
    }
}

/// What findings of one step are at another: those the table has there, with their effect there.
pub fn at_step(blockers: &[Blocker], step: Step) -> Vec<Blocker> {
    let mut found: Vec<Blocker> = blockers
        .iter()
        .filter_map(|blocker| Some(Blocker { effect: blocker.check.effect(step)?, ..blocker.clone() }))
        .collect();
    found.sort_by_key(|blocker| std::cmp::Reverse(blocker.effect));
    found
}

/// One finding at a step that it stops.
pub fn one(check: Check, step: Step, field: impl Into<String>, sentence: impl Into<String>) -> Vec<Blocker> {
    let mut findings = Findings::at(step);
    findings.add(check, field, sentence);
    let found = findings.finish();
    debug_assert!(!found.is_empty(), "{check:?} is no business of {step:?}");
    found
}

/// Whether it is the customer who is held back: on hold, or over the limit.
pub fn customer_held(blockers: &[Blocker]) -> bool {
    blockers.iter().any(|blocker| matches!(blocker.check, Check::CustomerOnStop | Check::CreditLimit))
}

/// Whether any of them stops the step.
pub fn stops(blockers: &[Blocker]) -> bool {
    blockers.iter().any(|blocker| blocker.effect == Effect::Stops)
}

/// Whether any of them asks for approval.
pub fn asks(blockers: &[Blocker]) -> bool {
    blockers.iter().any(|blocker| blocker.effect == Effect::Asks)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn limit_and_stop_never_prevent_billing_what_has_gone() {
        assert_eq!(Check::CustomerOnStop.effect(Step::Ship), Some(Effect::Stops));
        assert_eq!(Check::CustomerOnStop.effect(Step::Bill), Some(Effect::Warns));
        assert_eq!(Check::CustomerOnStop.effect(Step::Post), Some(Effect::Warns));
    }

    #[test]
    fn every_check_concerns_a_step() {
        let steps = [
            Step::Draft,
            Step::Quote,
            Step::Import,
            Step::Confirm,
            Step::Follow,
            Step::Ship,
            Step::Bill,
            Step::Post,
            Step::Send,
        ];
        for check in Check::ALL {
            assert!(steps.iter().any(|step| check.effect(*step).is_some()), "{check:?}");
        }
    }

    #[test]
    fn a_draft_waits_for_what_a_confirmation_needs() {
        let found = one(Check::OwnFieldMissing, Step::Confirm, "fields.colour", "Say which.");
        assert!(stops(&found));
        for step in [Step::Draft, Step::Quote, Step::Import, Step::Follow] {
            assert_eq!(at_step(&found, step), []);
        }
        let nonsense = one(Check::UnitOrStep, Step::Confirm, "lines.0.quantity", "Sold in sixes.");
        for step in [Step::Draft, Step::Quote, Step::Import] {
            assert!(stops(&at_step(&nonsense, step)), "{step:?}");
        }
        assert_eq!(at_step(&nonsense, Step::Follow), [], "it was confirmed as it is");
    }

    #[test]
    fn who_was_confirmed_is_not_asked_for_again() {
        for check in [Check::CustomerOnStop, Check::CreditLimit, Check::OrderAmount] {
            assert_eq!(check.effect(Step::Confirm), Some(Effect::Asks));
            assert_eq!(check.effect(Step::Follow), None);
            assert_eq!(check.effect(Step::Draft), None);
        }
        assert!(customer_held(&one(Check::CreditLimit, Step::Confirm, "customer", "Over.")));
        assert!(!customer_held(&one(Check::OrderAmount, Step::Confirm, "total", "Above.")));
    }

    #[test]
    fn what_stops_comes_first_and_nothing_twice() {
        let mut findings = Findings::at(Step::Post);
        findings.add(Check::PriceZero, "a", "warns");
        findings.add(Check::MoreThanOrdered, "b", "not of this step");
        findings.add(Check::PeriodClosed, "c", "stops");
        findings.add(Check::PeriodClosed, "c", "stops");
        let blockers = findings.finish();
        assert_eq!(blockers.iter().map(|b| b.field.as_str()).collect::<Vec<_>>(), ["c", "a"]);
        assert!(stops(&blockers));
    }
}
