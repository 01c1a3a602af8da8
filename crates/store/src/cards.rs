//! Cards: what was authorized for orders, or pays invoices, captured, sent back and paid out.
//!
//! The processor is outside of the books. What is asked of it is written down first, with its key ([`authorize`],
//! [`capture`], [`void`], [`refund`] make an [`Outgoing`]); whoever sends it writes the answer down with [`answer`]. What
//! the processor tells by itself comes in through [`hear`]. Captured money becomes a receipt or a deposit in the same
//! change where it can, otherwise the day sheet asks for it. *Source: domain.md section 8; postings.md, Money.*

mod answering;
mod asking;
mod booking;
mod facts;
mod payouts;
mod views;

pub use answering::{answer, hear, heard};
pub use asking::{
    AddedCard, Asked, CardForm, NewAuthorization, NewCapture, NewCardPayment, NewRefund, Outgoing, add_card, authorize,
    capture, capture_all, form, open_calls, outgoing, pay, preview_capture, preview_refund, refund, void,
};
pub(crate) use asking::{earlier, go_on, invoices_to_pay};
pub use booking::{BookReturn, BookedReturn, CapturePreview, book_capture, book_return, preview_return};
pub(crate) use facts::{entries_of, left_of, of_day_sheet, standing_for, to_book};
pub use payouts::{
    BookPayout, PayoutLineView, PayoutList, PayoutPreview, PayoutRow, PayoutView, book_payout, payout, payouts,
    preview_payout,
};
pub use views::{CaptureView, CardFilter, CardList, CardReturnView, CardRow, CardView, list, view};
