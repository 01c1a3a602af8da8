//! Customer deposits: taken for an order or on account, out of money that comes in or that lies unapplied, applied, moved,
//! refunded, kept as income.
//!
//! A deposit is a payment of its own kind, with numbers of its own, and an open item on the account of deposits. It is
//! applied by invoices of its order ([`crate::invoices`]), or later as any other credit ([`crate::receipts::apply`]).

mod ending;
mod facts;
mod moving;
mod taking;
mod undoing;
mod views;

pub use ending::{EndPreview, Ended, NewEnd, end, preview_end, preview_reverse, reverse};
pub(crate) use ending::{end_input, previewed};
pub(crate) use facts::{follow, held_for, load_for_invoices, proposed, refresh_orders, rooms, target};
pub use moving::{ToMove, move_to};
pub use taking::{DepositPreview, NewDeposit, PostedDeposit, preview, take};
pub(crate) use taking::{preview_by, take_by};
pub use undoing::{preview_undo, undo};
pub use views::{
    DepositApplication, DepositEndView, DepositFilter, DepositList, DepositMoveView, DepositRow, DepositView, list,
    view,
};
