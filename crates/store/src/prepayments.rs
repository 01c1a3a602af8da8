//! Prepayment invoices: what an order asks for in advance, the register of what was prepaid and used, what is to be
//! credited of it. Posted and credited by the ways of every invoice.

mod asking;
mod facts;
mod requests;
mod views;

pub use asking::{AdvanceForm, AdvanceLine, AdvanceLineView, AdvancePlan, SavedAdvance, bill, plan, save};
pub(crate) use facts::{left_of, left_with_tax, load_for_invoices, read_uses, rows_of, to_credit, unpaid_of};
pub use requests::{
    NewRequestPayment, PaymentRequestRow, PaymentRequestView, RequestPaid, RequestState, pay, preview_pay, request,
    request_view, withdraw,
};
pub use views::{PrepaymentFilter, PrepaymentList, PrepaymentRow, list, of_order};
