//! Every call of the API and what it takes to make it. What has no row here is refused.

use actix_web::http::Method;
use till_core::people::Operation;

/// What a call takes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Takes {
    /// Nothing: it is how one gets in.
    Nothing,
    /// A sign-in whose role may do this.
    Right(Operation),
}

use Operation as O;
use Takes::{Nothing, Right};

/// The table: method, address, what it takes.
pub const CALLS: &[(&str, &str, Takes)] = &[
    ("GET", "/health", Nothing),
    ("GET", "/api/session", Nothing),
    ("POST", "/api/session", Nothing),
    ("POST", "/api/first-start", Nothing),
    ("DELETE", "/api/session", Right(O::KeepOwnSignIn)),
    ("PUT", "/api/session/password", Right(O::KeepOwnSignIn)),
    ("GET", "/api/presence", Right(O::SeeBooks)),
    ("POST", "/api/presence", Right(O::ShowPresence)),
    ("GET", "/api/spine", Right(O::SeeBooks)),
    ("GET", "/api/day-sheet", Right(O::SeeBooks)),
    ("GET", "/api/tie-outs", Right(O::SeeBooks)),
    ("GET", "/api/find", Right(O::SeeBooks)),
    ("GET", "/api/customers", Right(O::SeeBooks)),
    ("GET", "/api/customers/{id}", Right(O::SeeBooks)),
    ("PUT", "/api/customers/{id}/tax-id", Right(O::KeepCustomer)),
    ("PUT", "/api/customers/{id}/stop", Right(O::PutOnStop)),
    ("DELETE", "/api/customers/{id}/stop", Right(O::LiftStop)),
    ("GET", "/api/orders", Right(O::SeeBooks)),
    ("GET", "/api/orders/{id}", Right(O::SeeBooks)),
    ("PUT", "/api/orders/{id}/customer-order-number", Right(O::KeepOrder)),
    ("GET", "/api/shipments", Right(O::SeeBooks)),
    ("GET", "/api/shipments/{id}", Right(O::SeeBooks)),
    ("POST", "/api/shipments/{id}/post", Right(O::PostShipment)),
    ("GET", "/api/unbilled", Right(O::SeeBooks)),
    ("POST", "/api/invoices/preview", Right(O::SeeBooks)),
    ("POST", "/api/invoices/post", Right(O::PostInvoice)),
    ("POST", "/api/invoices", Right(O::KeepDraft)),
    ("GET", "/api/invoices", Right(O::SeeBooks)),
    ("GET", "/api/invoices/{id}", Right(O::SeeBooks)),
    ("PUT", "/api/invoices/{id}", Right(O::KeepDraft)),
    ("DELETE", "/api/invoices/{id}", Right(O::KeepDraft)),
    ("POST", "/api/invoices/{id}/merge", Right(O::SeeBooks)),
    ("PUT", "/api/invoices/{id}/lines/{line}/price", Right(O::ChangePrice)),
    ("POST", "/api/invoices/{id}/post", Right(O::PostInvoice)),
    ("POST", "/api/receipts/preview", Right(O::SeeBooks)),
    ("POST", "/api/receipts", Right(O::PostMoney)),
    ("GET", "/api/receipts", Right(O::SeeBooks)),
    ("GET", "/api/receipts/{id}", Right(O::SeeBooks)),
    ("POST", "/api/receipts/{id}/applications/preview", Right(O::SeeBooks)),
    ("POST", "/api/receipts/{id}/applications", Right(O::PostMoney)),
    ("GET", "/api/ledger/journal", Right(O::SeeBooks)),
    ("GET", "/api/ledger/trial-balance", Right(O::SeeBooks)),
    ("GET", "/api/ledger/accounts/{number}", Right(O::SeeBooks)),
    ("GET", "/api/ledger/entries/{id}", Right(O::SeeBooks)),
    ("GET", "/api/export/{list}.csv", Right(O::SeeBooks)),
    ("GET", "/api/approvals", Right(O::SeeBooks)),
    ("GET", "/api/approvals/{id}", Right(O::SeeBooks)),
    ("POST", "/api/approvals/{id}/approve", Right(O::DecideApproval)),
    ("POST", "/api/approvals/{id}/decline", Right(O::DecideApproval)),
    ("POST", "/api/approvals/{id}/withdraw", Right(O::WithdrawApproval)),
    ("GET", "/api/record", Right(O::SeeRecord)),
    ("GET", "/api/record/{kind}/{id}", Right(O::SeeDocumentRecord)),
    ("GET", "/api/setup", Right(O::SeeSetup)),
    ("GET", "/api/setup/rights", Right(O::SeeSetup)),
    ("PUT", "/api/setup/company", Right(O::KeepCompany)),
    ("PUT", "/api/setup/numbers/{kind}", Right(O::MoveNumber)),
    ("PUT", "/api/setup/periods/{first}", Right(O::ClosePeriod)),
    ("POST", "/api/setup/periods", Right(O::AddPeriod)),
    ("PUT", "/api/setup/limits", Right(O::KeepLimits)),
    ("GET", "/api/people", Right(O::SeePeople)),
    ("POST", "/api/people", Right(O::KeepPeople)),
    ("PUT", "/api/people/{id}", Right(O::KeepPeople)),
    ("PUT", "/api/people/{id}/password", Right(O::KeepPeople)),
];

/// What a call takes; none where there is no such call.
pub fn takes(method: &Method, pattern: &str) -> Option<Takes> {
    CALLS.iter().find(|(known, address, _)| *known == method.as_str() && *address == pattern).map(|(.., takes)| *takes)
}
