//! The API: one module a room.

mod approvals;
mod billing;
mod chart;
mod corrections;
mod customers;
mod export;
mod going_out;
mod goods;
mod imports;
mod items;
mod ledger;
mod openings;
mod orders;
mod overview;
mod quotes;
mod receipts;
mod runs;
mod session;
mod setup;
mod shipments;

use serde::Deserialize;
use utoipa::IntoParams;
use utoipa_actix_web::service_config::ServiceConfig;

use crate::problem::Problem;

pub(crate) use imports::LARGEST_FILE;
pub use imports::Underway;
pub use runs::{Looks, Posting};
pub use session::StartCode;

/// What handlers return.
type Answer<T> = Result<crate::request::Json<T>, Problem>;

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
        // Before `/orders/{id}`, whose pattern would match it.
        .service(orders::preview_order)
        .service(orders::view)
        .service(orders::open_lines)
        .service(orders::enter_order)
        .service(orders::change_order)
        .service(orders::confirm_order)
        .service(orders::cancel_order)
        .service(orders::copy_order)
        .service(orders::set_aside)
        .service(orders::let_go)
        .service(orders::set_customer_order_number)
        .service(shipments::list_shipments)
        .service(shipments::shipment)
        .service(shipments::to_ship)
        .service(shipments::start_shipment)
        .service(shipments::change_shipment)
        .service(shipments::pack_shipment)
        .service(shipments::drop_shipment)
        .service(shipments::post_shipment)
        .service(shipments::take_back_shipment)
        .service(shipments::preview_ship_and_bill)
        .service(shipments::ship_and_bill)
        .service(shipments::preview_ship_and_bill_many)
        .service(shipments::ship_and_bill_many)
        .service(quotes::list_quotes)
        .service(quotes::quote)
        .service(quotes::write_quote)
        .service(quotes::change_quote)
        .service(quotes::accept_quote)
        .service(quotes::decline_quote)
        .service(quotes::list_call_offs)
        .service(quotes::call_off)
        .service(quotes::enter_call_off)
        .service(customers::customer_file)
        .service(customers::add_customer)
        .service(customers::change_customer)
        .service(customers::set_ship_to)
        .service(customers::set_contact)
        .service(customers::list_contacts)
        .service(customers::add_contact)
        .service(customers::preview_terms)
        .service(customers::preview_containers)
        .service(customers::take_containers)
        .service(items::list_items)
        .service(items::item)
        .service(items::add_item)
        .service(items::change_item)
        .service(items::take_in)
        .service(items::reverse_intake)
        .service(items::count_item)
        .service(items::expect_goods)
        .service(items::view_prices)
        .service(items::add_price_list)
        .service(items::set_list_price)
        .service(items::set_break)
        .service(items::drop_break)
        .service(items::set_promotion)
        .service(goods::view_goods_settings)
        .service(goods::change_goods_settings)
        .service(goods::set_warehouse)
        .service(goods::set_own_field)
        .service(goods::set_reporting_list)
        .service(goods::add_tax_code)
        .service(goods::add_tax_rate)
        .service(goods::add_exchange_rate)
        .service(imports::read_file)
        .service(imports::list_imports)
        .service(imports::view_import)
        .service(imports::import_progress)
        .service(imports::take_file_over)
        .service(imports::drop_import)
        .service(billing::why_not_here)
        .service(billing::list_unbilled)
        .service(billing::preview_grid)
        .service(billing::post_grid)
        .service(billing::preview)
        .service(billing::post_picks)
        .service(billing::post_drafts)
        .service(billing::make_drafts)
        .service(billing::list)
        .service(billing::view)
        .service(billing::change_draft)
        .service(billing::drop_draft)
        .service(billing::merge_draft)
        .service(corrections::change_price)
        .service(corrections::change_work_price)
        .service(corrections::change_tax)
        .service(corrections::change_work_tax)
        .service(corrections::change_discount)
        .service(corrections::preview_cancel)
        .service(corrections::cancel_invoice)
        .service(corrections::list_credit_memos)
        .service(corrections::view_credit_memo)
        .service(runs::make_run)
        .service(runs::list_runs)
        .service(runs::run_progress)
        .service(runs::view_run)
        .service(runs::leave_out)
        .service(runs::set_run_dates)
        .service(runs::post_run)
        .service(runs::go_on)
        .service(runs::drop_run)
        .service(runs::list_recipes)
        .service(runs::keep_recipe)
        .service(runs::repeat_recipe)
        .service(runs::drop_recipe)
        .service(going_out::send)
        .service(going_out::printed)
        .service(going_out::list_deliveries)
        .service(going_out::send_again)
        .service(going_out::view_message)
        .service(going_out::change_message)
        .service(going_out::taken)
        .service(going_out::mail_setup)
        .service(going_out::change_template)
        .service(going_out::set_mail)
        .service(going_out::list_views)
        .service(going_out::keep_view)
        .service(going_out::drop_view)
        .service(billing::post_draft)
        .service(openings::preview)
        .service(openings::post)
        .service(receipts::preview)
        .service(receipts::post)
        .service(receipts::list)
        .service(receipts::view)
        .service(receipts::preview_apply)
        .service(receipts::apply)
        .service(receipts::preview_unapply)
        .service(receipts::unapply)
        .service(receipts::preview_reverse)
        .service(receipts::reverse)
        .service(receipts::methods)
        .service(ledger::journal)
        .service(ledger::trial_balance)
        .service(ledger::account)
        .service(ledger::entry)
        .service(ledger::open_items_as_of)
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
        .service(chart::view_chart)
        .service(chart::add_account)
        .service(chart::rename_account)
        .service(chart::lead)
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
