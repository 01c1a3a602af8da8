//! Bank statements: taken in once, each line cleared against the ledger, made a receipt, or booked.

mod accepting;
mod columns;
mod facts;
mod importing;
mod reconciling;
mod slips;
mod views;

pub use accepting::{AcceptPreview, Accepted, SureAccepted, ToAccept, accept, accept_sure, preview_accept, undo};
pub use columns::{TableAccount, keep_columns, table_account};
pub use importing::{BankAccountForm, TakenIn, own_account, set_account, take_in};
pub use reconciling::{AccountState, OutstandingRow, accounts, outstanding};
pub use views::{
    LineFilter, LineView, MatchView, ProposalView, StatementList, StatementRow, StatementView, list, view,
};

pub use slips::{
    InHandRow, NewSlip, PreparedSlip, SlipList, SlipPreview, SlipRow, SlipView, ToBank, ToCancelSlip,
    bank as bank_slip, cancel as cancel_slip, in_hand, list as slips, prepare as prepare_slip, preview as preview_slip,
    preview_bank as preview_bank_slip, view as slip,
};

pub(crate) use slips::{place_now, waiting as slips_waiting};
pub(crate) use views::of_day_sheet;
