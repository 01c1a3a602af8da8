//! The API: one module a room.

mod approvals;
mod bank;
mod bank_tables;
mod billing;
mod cards;
mod chart;
mod claims;
mod corrections;
mod credits;
mod customers;
mod deposits;
mod disputes;
mod exchanges;
mod export;
mod going_out;
mod goods;
mod imports;
mod items;
mod ledger;
mod openings;
mod orders;
mod overview;
mod page_links;
mod pages;
mod prepayments;
mod quotes;
mod receipts;
mod returns;
mod runs;
mod session;
mod setup;
mod shipments;
mod slips;

use serde::Deserialize;
use utoipa::IntoParams;
use utoipa_actix_web::service_config::ServiceConfig;

use crate::problem::Problem;

pub use imports::Underway;
pub use runs::{Looks, Posting};
pub use session::StartCode;

/// What handlers return.
type Answer<T> = Result<crate::request::Json<T>, Problem>;

/// Every call of the API, module by module.
pub fn configure(config: &mut ServiceConfig<'_>) {
    session::configure(config);
    overview::configure(config);
    orders::configure(config);
    shipments::configure(config);
    quotes::configure(config);
    page_links::configure(config);
    pages::configure(config);
    customers::configure(config);
    items::configure(config);
    goods::configure(config);
    imports::configure(config);
    billing::configure(config);
    // What is asked by name comes before what is asked by id.
    credits::configure(config);
    corrections::configure(config);
    runs::configure(config);
    going_out::configure(config);
    openings::configure(config);
    receipts::configure(config);
    deposits::configure(config);
    prepayments::configure(config);
    returns::configure(config);
    exchanges::configure(config);
    claims::configure(config);
    cards::configure(config);
    ledger::configure(config);
    export::configure(config);
    approvals::configure(config);
    bank::configure(config);
    bank_tables::configure(config);
    disputes::configure(config);
    slips::configure(config);
    setup::configure(config);
    chart::configure(config);
}

/// A stretch of a list.
#[derive(Debug, Clone, Deserialize, IntoParams)]
pub(crate) struct Stretch {
    /// Words to look for.
    #[serde(default)]
    q: Option<String>,
    /// A state to keep to.
    #[serde(default)]
    state: Option<String>,
    /// How many at most, 500 at most.
    #[serde(default)]
    limit: Option<i64>,
    /// How many to pass over.
    #[serde(default)]
    offset: Option<i64>,
}

impl Stretch {
    fn search(&self) -> Option<&str> {
        self.q.as_deref().map(str::trim).filter(|text| !text.is_empty())
    }

    fn limit(&self) -> i64 {
        self.limit.unwrap_or(100).clamp(1, 500)
    }

    fn offset(&self) -> i64 {
        self.offset.unwrap_or(0).max(0)
    }
}
