//! The API: one module a room.

mod approvals;
mod billing;
mod export;
mod ledger;
mod orders;
mod overview;
mod receipts;
mod session;
mod setup;

use serde::Deserialize;
use utoipa::IntoParams;
use utoipa_actix_web::service_config::ServiceConfig;

use crate::problem::Problem;

pub use session::StartCode;

/// What handlers return.
type Answer<T> = Result<actix_web::web::Json<T>, Problem>;

/// Every call of the API.
pub fn configure(config: &mut ServiceConfig<'_>) {
    config
        .service(session::view_session)
        .service(session::sign_in)
        .service(session::sign_out)
        .service(session::change_password)
        .service(session::first_start)
        .service(overview::spine)
        .service(overview::view_day_sheet)
        .service(overview::tie_outs)
        .service(overview::find_anything)
        .service(overview::list_customers)
        .service(overview::customer)
        .service(overview::set_tax_id)
        .service(overview::put_on_stop)
        .service(overview::lift_stop)
        .service(orders::list)
        .service(orders::view)
        .service(orders::set_customer_order_number)
        .service(orders::list_shipments)
        .service(orders::shipment)
        .service(orders::post_shipment)
        .service(billing::list_unbilled)
        .service(billing::preview)
        .service(billing::post_picks)
        .service(billing::make_drafts)
        .service(billing::list)
        .service(billing::view)
        .service(billing::change_draft)
        .service(billing::drop_draft)
        .service(billing::merge_draft)
        .service(billing::change_price)
        .service(billing::post_draft)
        .service(receipts::preview)
        .service(receipts::post)
        .service(receipts::list)
        .service(receipts::view)
        .service(receipts::preview_apply)
        .service(receipts::apply)
        .service(ledger::journal)
        .service(ledger::trial_balance)
        .service(ledger::account)
        .service(ledger::entry)
        .service(export::export)
        .service(approvals::list_approvals)
        .service(approvals::view_approval)
        .service(approvals::approve)
        .service(approvals::decline)
        .service(approvals::withdraw)
        .service(approvals::whole_record)
        .service(approvals::document_record)
        .service(approvals::list_presence)
        .service(approvals::note_presence)
        .service(setup::view_setup)
        .service(setup::view_rights)
        .service(setup::change_company)
        .service(setup::move_number)
        .service(setup::set_period)
        .service(setup::add_period)
        .service(setup::set_limit)
        .service(setup::list_people)
        .service(setup::add_person)
        .service(setup::change_person)
        .service(setup::reset_password);
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
