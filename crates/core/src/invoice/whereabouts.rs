//! Why an order is not among what is unbilled: the answer to a question the clerk is asked on
//! the telephone.

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};

use crate::calendar::words;
use crate::ids::{DocumentKind, DocumentRef};
use crate::order::{LineProgress, OrderState};

/// What has to be known of an order to say where its billing stands.
#[derive(Debug, Clone)]
pub struct OrderBilling {
    /// The order.
    pub order: DocumentRef,
    /// Where it stands in its life.
    pub state: OrderState,
    /// Its lines.
    pub lines: Vec<LineProgress>,
    /// Shipments begun and not posted.
    pub underway: Vec<DocumentRef>,
    /// Drafts it stands on, and in which run, if in one.
    pub drafts: Vec<(DocumentRef, Option<String>)>,
    /// Posted invoices it stands on, with their dates; cancelled ones are none.
    pub invoices: Vec<(DocumentRef, NaiveDate)>,
    /// Posted shipments with something left to bill.
    pub unbilled: Vec<DocumentRef>,
    /// The day it is promised for.
    pub promised: Option<NaiveDate>,
}

/// One reason, with the document that shows it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Whereabouts {
    /// What is so, and what to do.
    pub sentence: String,
    /// Where to look.
    pub at: DocumentRef,
}

/// Where the billing of an order stands, in the order in which it matters to who looks for it.
pub fn whereabouts(facts: &OrderBilling) -> Vec<Whereabouts> {
    let mut answers = Vec::new();
    let mut say = |sentence: String, at: &DocumentRef| answers.push(Whereabouts { sentence, at: at.clone() });
    let number = &facts.order.number;
    for shipment in &facts.unbilled {
        say(format!("{} of {number} is posted and can be billed: it is in this list.", shipment.number), shipment);
    }
    for (draft, run) in &facts.drafts {
        let place = run.as_ref().map(|run| format!(", in {run}")).unwrap_or_default();
        say(format!("{number} stands on {}{place}. Post it there, or delete it.", draft.number), draft);
    }
    for shipment in &facts.underway {
        say(
            format!(
                "{} of {number} is not posted. Only what has left can be billed: post the shipment.",
                shipment.number
            ),
            shipment,
        );
    }
    let to_ship = facts.lines.iter().any(|line| line.to_ship().is_positive());
    if facts.state == OrderState::Draft {
        say(format!("{number} is a draft. Confirm it before it ships."), &facts.order);
    } else if to_ship && facts.underway.is_empty() {
        let promised = facts.promised.map(|day| format!(", promised for {}", words(day))).unwrap_or_default();
        let part = if facts.lines.iter().any(|line| line.shipped.is_positive()) { "The rest of " } else { "" };
        say(format!("{part}{number} has not been shipped{promised}. No shipment is begun."), &facts.order);
    }
    for (invoice, day) in &facts.invoices {
        say(format!("{number} was billed on {} of {}.", invoice.number, words(*day)), invoice);
    }
    if answers.is_empty() {
        answers.push(Whereabouts {
            sentence: format!("Nothing of {number} is left: it was canceled before it shipped."),
            at: facts.order.clone(),
        });
    }
    answers
}

/// A document as these answers name it.
pub fn document(kind: DocumentKind, id: i64, number: impl Into<String>) -> DocumentRef {
    DocumentRef { kind, id, number: number.into() }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::fixed::Quantity;
    use crate::money::Money;

    fn facts() -> OrderBilling {
        OrderBilling {
            order: document(DocumentKind::Order, 1, "O-1"),
            state: OrderState::Open,
            lines: vec![LineProgress {
                ordered: Quantity::from_whole(5),
                cancelled: Quantity::ZERO,
                shipped: Quantity::ZERO,
                billed: Quantity::ZERO,
                value: Money(500),
            }],
            underway: Vec::new(),
            drafts: Vec::new(),
            invoices: Vec::new(),
            unbilled: Vec::new(),
            promised: Some("2026-03-20".parse().unwrap()),
        }
    }

    fn said(facts: &OrderBilling) -> Vec<String> {
        whereabouts(facts).into_iter().map(|answer| answer.sentence).collect()
    }

    #[test]
    fn each_reason_is_said_with_what_to_do() {
        assert_eq!(said(&facts()), ["O-1 has not been shipped, promised for 20 Mar 2026. No shipment is begun."]);
        let packed = OrderBilling { underway: vec![document(DocumentKind::Shipment, 2, "S-2")], ..facts() };
        assert_eq!(said(&packed), ["S-2 of O-1 is not posted. Only what has left can be billed: post the shipment."]);
        let draft = (document(DocumentKind::Invoice, 3, "draft 3"), Some("run 7".to_owned()));
        let mut drafted = OrderBilling { drafts: vec![draft], ..facts() };
        drafted.lines[0].shipped = Quantity::from_whole(5);
        assert_eq!(said(&drafted), ["O-1 stands on draft 3, in run 7. Post it there, or delete it."]);
        let invoice = (document(DocumentKind::Invoice, 4, "I-4"), "2026-03-02".parse().unwrap());
        let mut billed = OrderBilling { state: OrderState::Filled, invoices: vec![invoice], ..facts() };
        billed.lines[0].shipped = Quantity::from_whole(5);
        billed.lines[0].billed = Quantity::from_whole(5);
        assert_eq!(said(&billed), ["O-1 was billed on I-4 of 2 Mar 2026."]);
        billed.lines[0].shipped = Quantity::from_whole(3);
        assert_eq!(
            said(&billed)[0],
            "The rest of O-1 has not been shipped, promised for 20 Mar 2026. No shipment is begun."
        );
        let mut cancelled = facts();
        cancelled.lines[0].cancelled = Quantity::from_whole(5);
        assert_eq!(said(&cancelled), ["Nothing of O-1 is left: it was canceled before it shipped."]);
    }
}
