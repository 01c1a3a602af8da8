//! Remittance advice: a payer's own list of what a payment is for, as applications of a receipt.

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::calendar::DocumentDate;
use till_core::ids::{CustomerId, DocumentRef};
use till_core::money::{Currency, Money};
use till_core::remittance::{Advised, Allotted, allot};

use super::NewApplication;
use crate::disputes::{self, DisputeWords};
use crate::rules::Rules;
use crate::{Result, customers, open_items, sensible_date};

/// A line of an advice, and what it pays.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct AdviceLine {
    /// What becomes of it.
    #[serde(flatten)]
    pub allotted: Allotted,
    /// What it pays; none where nothing is known by its number.
    pub document: Option<DocumentRef>,
    /// Whose that is, where it is a branch's.
    pub branch: Option<String>,
}

/// An advice, as it would be applied.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Advice {
    /// The currency of its amounts: the customer's.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub currency: Currency,
    /// Its lines, in their order.
    pub lines: Vec<AdviceLine>,
    /// What the payment comes to by it.
    pub paid: Money,
    /// What of that goes to something that is open.
    pub to_items: Money,
    /// How many lines pay nothing that is known.
    pub not_found: usize,
    /// What a receipt applies by it.
    pub applications: Vec<NewApplication>,
}

/// What the lines of an advice pay of what a customer and its branches owe.
///
/// # Errors
/// An unknown customer, a date out of reach.
pub async fn advice(
    connection: &mut SqliteConnection,
    rules: &Rules,
    (customer, date): (CustomerId, Option<NaiveDate>),
    lines: &[Advised],
) -> Result<Advice> {
    if let Some(date) = date {
        sensible_date("date", date)?;
    }
    let (_, currency) = customers::facts(connection, customer).await?;
    let group = open_items::paying_group(connection, customer).await?;
    let members: Vec<CustomerId> = group.iter().map(|member| member.id).collect();
    let open = open_items::owed_by(connection, &members).await?;
    let early = open_items::early(connection, open.iter().map(|item| item.id)).await?;
    let on = DocumentDate::or_business_date(date, rules.business_date).date;
    let allotted = allot(lines, &open, &early, (currency, on));
    // What is in dispute already stays so: its list says it again.
    let named: Vec<_> = allotted.iter().filter_map(|one| one.item).collect();
    let disputed = disputes::over(connection, rules.business_date, &named).await?;
    let by_id: std::collections::HashMap<_, _> = open.iter().map(|item| (item.id, item)).collect();
    let mut found = Advice {
        currency,
        lines: Vec::with_capacity(allotted.len()),
        paid: lines.iter().map(|line| line.paid).sum(),
        to_items: allotted.iter().map(|one| one.amount).sum(),
        not_found: allotted.iter().filter(|one| one.item.is_none()).count(),
        applications: Vec::with_capacity(allotted.len()),
    };
    for one in allotted {
        let item = one.item.and_then(|id| by_id.get(&id));
        if let Some(item) = item {
            let new = one.disputed.is_positive() && !disputed.contains_key(&item.id);
            let dispute = new.then(|| DisputeWords::deduction(&one.line.words));
            found.applications.push(NewApplication {
                discount: Some(currency.format(one.discount)),
                dispute,
                ..NewApplication::to_item(item.id, currency.format(one.amount))
            });
        }
        let branch = item.filter(|item| item.customer != customer);
        let branch = branch.and_then(|item| group.iter().find(|member| member.id == item.customer));
        found.lines.push(AdviceLine {
            document: item.map(|item| item.document.clone()),
            branch: branch.map(|member| member.name.clone()),
            allotted: one,
        });
    }
    Ok(found)
}
