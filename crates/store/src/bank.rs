//! Bank statements: taken in once, each line cleared against the ledger, made a receipt, or booked.

mod accepting;
mod columns;
mod deposit_back;
mod facts;
mod fitting;
mod importing;
mod reconciling;
mod slip_views;
mod slips;
mod undoing;
mod views;

pub use accepting::{AcceptPreview, Accepted, SureAccepted, ToAccept, accept, accept_sure, preview_accept};
pub use columns::{TableAccount, keep_columns, table_account};
pub use importing::{BankAccountForm, TakenIn, own_account, set_account, take_in};
pub use reconciling::{AccountState, OutstandingRow, accounts, outstanding};
pub use slip_views::{InHandRow, SlipList, SlipPreview, SlipRow, SlipView, in_hand, list as slips, view as slip};
pub use slips::{
    NewSlip, PreparedSlip, ToBank, ToCancelSlip, bank as bank_slip, cancel as cancel_slip, prepare as prepare_slip,
    preview as preview_slip, preview_bank as preview_bank_slip,
};
pub use undoing::undo;
pub use views::{
    LineFilter, LineView, MatchView, ProposalView, StatementList, StatementRow, StatementView, find, list, view,
};

pub(crate) use slip_views::waiting as slips_waiting;
pub(crate) use slips::place_now;
pub(crate) use views::of_day_sheet;
