//! A check or a transfer that came back: what the customer is charged for it, as an invoice of its own.

use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::accounts::Purpose;
use till_core::checks::Blocker;
use till_core::settle::back::{BackInput, Reversal};

use super::BackPreview;
use super::back::ToReverseReceipt;
use crate::invoices::{self, AddedLine, InvoicePreview, ToBill};
use crate::rules::Rules;
use crate::writing::Writing;
use crate::{Result, StoreError, customers};

/// What a customer is charged for a payment that came back.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ChargeOn {
    /// How much without tax, a decimal in the customer's currency; none for what the bank takes.
    #[serde(default)]
    pub amount: Option<String>,
    /// Its tax code: whether such a charge is taxed is the country's to say.
    #[serde(default)]
    pub tax_code: String,
}

/// The invoice a charge becomes.
pub(super) struct Charged {
    to_bill: ToBill,
    preview: InvoicePreview,
}

/// The invoice over what is charged on; none where nothing is.
pub(super) async fn charged_on(
    connection: &mut SqliteConnection,
    rules: &Rules,
    input: &BackInput<'_>,
    wish: &ToReverseReceipt,
) -> Result<Option<Charged>> {
    let Some(charge) = &wish.charge else { return Ok(None) };
    let (facts, money) = customers::facts(connection, input.payer.id).await?;
    if charge.tax_code.trim().is_empty() {
        return Err(StoreError::invalid("charge.tax_code", "Choose the tax code of the charge."));
    }
    let typed = charge.amount.as_deref().map(str::trim).filter(|typed| !typed.is_empty());
    let amount = match (typed, input.fee.filter(|fee| fee.currency == money)) {
        (Some(typed), _) => typed.to_owned(),
        (None, Some(fee)) => fee.currency.format(fee.amount),
        (None, None) => {
            let sentence = format!("Enter how much {} is charged, in {money}.", facts.name);
            return Err(StoreError::invalid("charge.amount", sentence));
        }
    };
    money.parse(&amount).map_err(|error| StoreError::decimal("charge.amount", &error))?;
    let account = rules
        .accounts
        .account(Purpose::OtherIncome, None, facts.class.as_deref())
        .map_err(|why| StoreError::WrongState(why.to_string()))?;
    let line = AddedLine {
        account: Some(account.number.clone()),
        description: Some(format!("Fee for {}, returned", input.number)),
        quantity: "1".to_owned(),
        unit_price: Some(amount),
        tax_code: Some(charge.tax_code.clone()),
        ..AddedLine::default()
    };
    let to_bill = ToBill {
        customer: Some(input.payer.id),
        added: vec![line],
        document_date: wish.date,
        posting_date: wish.date,
        ..ToBill::default()
    };
    let preview = invoices::preview(connection, rules, &to_bill).await?.pop().ok_or(StoreError::Moved)?;
    Ok(Some(Charged { to_bill, preview }))
}

impl Charged {
    pub(super) fn blockers(&self) -> &[Blocker] {
        &self.preview.blockers
    }

    /// The mark of a reversal together with its charge.
    pub(super) fn mark(&self, reversal: &str) -> String {
        till_core::fingerprint::of(&(reversal, &self.preview.fingerprint))
    }

    /// Shows it beside the reversal.
    pub(super) fn add_to(self, preview: &mut BackPreview) {
        preview.fingerprint = self.mark(&preview.fingerprint);
        preview.entries.extend(self.preview.entry.map(|entry| Reversal { entry, reverses: None }));
        preview.changes.extend(self.preview.changes);
        preview.blockers.extend(self.preview.blockers);
    }

    /// Posts the invoice. Returns its number.
    pub(super) async fn post(self, writing: &mut Writing<'_>, rules: &Rules) -> Result<String> {
        let posted = invoices::post_picks(writing, rules, &self.to_bill, None).await?;
        posted.into_iter().next().map(|one| one.number).ok_or(StoreError::Moved)
    }
}
