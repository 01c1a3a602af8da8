//! Money that is to go back to the card it came from.

use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::calendar::DocumentDate;
use till_core::card::{Ask, check_refund};
use till_core::checks::stops;
use till_core::deposit::ending::decide;
use till_core::fingerprint;
use till_core::ids::{CardAuthorizationId, CardCaptureId, DocumentKind};
use till_core::money::Money;
use till_core::people::check_reason;

use super::{Asked, note, write_call};
use crate::approvals::{self, Asked as AskedFor, Go, Wish};
use crate::cards::booking::ending;
use crate::cards::facts::{Loaded, load};
use crate::deposits::{EndPreview, previewed};
use crate::rules::Rules;
use crate::writing::{Writing, set};
use crate::{Result, StoreError};

/// What is to go back to a card, as typed.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct NewRefund {
    /// A decimal; none for all that is held or unapplied of it.
    #[serde(default)]
    pub amount: Option<String>,
    /// Why.
    #[serde(default)]
    pub reason: String,
    /// Fingerprint of the preview that was seen.
    #[serde(default)]
    pub seen: Option<String>,
}

/// A capture that is in the books.
pub(in crate::cards) struct Captured {
    pub(in crate::cards) id: CardCaptureId,
    pub(in crate::cards) authorization: CardAuthorizationId,
    pub(in crate::cards) reference: String,
    pub(in crate::cards) payment: Option<i64>,
    /// What of it did not go back.
    pub(in crate::cards) left: Money,
}

pub(in crate::cards) async fn captured(connection: &mut SqliteConnection, id: CardCaptureId) -> Result<Captured> {
    let row = sqlx::query!(
        r#"SELECT authorization_id, reference, payment_id,
                  amount_minor - coalesce((SELECT sum(card_returns.amount_minor) FROM card_returns WHERE capture_id = card_captures.id), 0) AS "left!: i64"
           FROM card_captures WHERE id = ?"#,
        id.0
    )
    .fetch_optional(connection)
    .await?
    .ok_or_else(|| StoreError::not_found(DocumentKind::CardAuthorization, format!("capture {id}")))?;
    Ok(Captured {
        id,
        authorization: CardAuthorizationId(row.authorization_id),
        reference: row.reference,
        payment: row.payment_id,
        left: Money(row.left),
    })
}

struct ToRefund {
    capture: Captured,
    loaded: Loaded,
    preview: EndPreview,
    amount_base: Money,
    payment_number: String,
    open: Money,
}

async fn to_refund(
    connection: &mut SqliteConnection,
    rules: &Rules,
    id: CardCaptureId,
    new: &NewRefund,
) -> Result<ToRefund> {
    let capture = captured(connection, id).await?;
    let loaded = load(connection, capture.authorization).await?;
    let Some(payment) = capture.payment else {
        let sentence = format!("A capture of {} is not in the books yet. Book it first.", loaded.card.number);
        return Err(StoreError::WrongState(sentence));
    };
    let date = DocumentDate::or_business_date(None, rules.business_date);
    let mut input = ending(connection, rules, (payment, None), (date, &new.reason)).await?;
    input.amount = match &new.amount {
        Some(typed) => loaded.card.currency.parse(typed).map_err(|error| StoreError::decimal("amount", &error))?,
        None => input.item.open.min(capture.left),
    };
    let decision = decide(&input);
    let amount_base = decision.amount_base;
    let mut preview = previewed(&input, decision);
    let number = input.item.document.number.clone();
    preview.blockers.extend(check_refund(&loaded.card, (&number, capture.left), input.amount));
    Ok(ToRefund { capture, loaded, preview, amount_base, payment_number: number, open: input.item.open })
}

/// What sending money back to its card would do to the books, once the processor has answered.
///
/// # Errors
/// An unknown capture, an amount that cannot be read.
pub async fn preview_refund(
    connection: &mut SqliteConnection,
    rules: &Rules,
    id: CardCaptureId,
    new: &NewRefund,
) -> Result<EndPreview> {
    Ok(to_refund(connection, rules, id, new).await?.preview)
}

/// Writes down that money is to go back to its card, or asks for approval where the role has to.
///
/// # Errors
/// [`StoreError::Moved`], or what the core refuses.
pub async fn refund(writing: &mut Writing<'_>, rules: &Rules, id: CardCaptureId, new: &NewRefund) -> Result<Asked> {
    let reason = check_reason(&new.reason).map_err(|why| StoreError::invalid("reason", why))?;
    let ToRefund { capture, loaded, preview, amount_base, payment_number, open } =
        to_refund(writing, rules, id, new).await?;
    if stops(&preview.blockers) {
        return Err(StoreError::Refused(preview.blockers));
    }
    writing.saw(new.seen.as_deref(), &preview.fingerprint)?;
    let (currency, amount) = (loaded.card.currency, preview.amount);
    let typed = currency.format(amount);
    let wish = Wish {
        asked: AskedFor::RefundCard {
            capture: id,
            wish: NewRefund { amount: Some(typed.clone()), reason: reason.clone(), seen: None },
        },
        document: loaded.document(),
        amount: amount_base,
        words: format!(
            "send {} {currency} of {payment_number} of {} back to the card",
            currency.grouped(amount),
            loaded.customer_name
        ),
        changes: vec![set("refund", &typed)],
        reason: reason.clone(),
        mark: fingerprint::of(&(id, amount, open)),
        gives_away: Money::ZERO,
        held: false,
    };
    if let Go::Waits(approval) = approvals::allowed_or_asked(writing, rules, wish).await? {
        return Ok(Asked { authorization: capture.authorization, call: None, waits: Some(approval) });
    }
    let ask = Ask::Refund { capture: capture.reference, amount };
    let call = write_call(writing, capture.authorization, (&ask, Some(capture.id), Some(&reason))).await?;
    let fields = vec![set("amount", typed), set("reason", reason)];
    note(writing, &loaded, ("card_refund_asked", "asked to send money back to the card of"), fields).await?;
    Ok(Asked { authorization: capture.authorization, call: Some(call), waits: None })
}
