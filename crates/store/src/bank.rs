//! Bank statements: taken in once, each line cleared against the ledger, made a receipt, or booked.

mod accepting;
mod facts;
mod importing;
mod reconciling;
mod views;

pub use accepting::{AcceptPreview, Accepted, SureAccepted, ToAccept, accept, accept_sure, preview_accept, undo};
pub use importing::{BankAccountForm, TakenIn, set_account, take_in};
pub use reconciling::{AccountState, OutstandingRow, accounts, outstanding};
pub use views::{
    LineFilter, LineView, MatchView, ProposalView, StatementList, StatementRow, StatementView, list, view,
};

pub(crate) use views::of_day_sheet;
