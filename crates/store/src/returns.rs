//! Returns: what customers may send back, what of it arrived, what became of it.

mod accruing;
mod at_once;
mod authorizing;
mod billed;
mod carrying;
mod claims;
mod exchanging;
mod expecting;
mod facts;
mod holding;
mod listing;
mod pictures;
mod repairing;
mod report;
mod settings;
mod steps;
mod swapping;
mod undoing;
mod views;

pub use accruing::{AccrualPreview, AccrualRow, NewAccrual, accrual_preview, accruals, enter_accrual};
pub use at_once::{AtOncePreview, BackAtOnce, ComesBack, DoneAtOnce, at_once, at_once_preview};
pub use authorizing::{NewReturn, NewReturnLine, ReturnPreview, ReturnToClose, authorize, close, extend, preview};
pub use billed::{ReturnableFilter, ReturnableList, ReturnableRow, returnable};
pub use claims::{
    ClaimAnswer, ClaimAnswerPreview, ClaimAnswerView, ClaimView, Claims, answer, answer_preview, claims, reverse_answer,
};
pub use exchanging::{UnknownAtOnce, UnknownBack, unknown_at_once, unknown_at_once_preview};
pub use expecting::{
    ExpectedReturns, ExpectedReturnsPreview, ExpectedReturnsRow, NewExpectedReturns, enter_expected_returns,
    expected_returns, expected_returns_preview,
};
pub(crate) use facts::{of_item, on_return, without_document};
pub(crate) use holding::{held_of, holding, holding_shipped};
pub(crate) use listing::of_day_sheet;
pub use listing::{ReturnFilter, ReturnList, ReturnRow, WaitingRow, list, waiting};
pub use pictures::{PictureContent, PictureView, add_picture, picture, remove_picture};
pub use repairing::{repair, repair_preview};
pub use report::{ReportBy, ReturnReport, why};
pub use settings::{
    DispositionForm, ReasonForm, ReturnRules, ReturnSettings, set_disposition, set_reason, set_rules, settings,
};
pub use steps::{
    Done, InspectForm, InspectLine, ReceiveForm, ReceiveLine, ReplaceForm, StepPreview, inspect, inspect_preview,
    receive, receive_preview, replace, replace_preview,
};
pub use swapping::{WrongItem, WrongItemPreview, put_right, put_right_preview};
pub use undoing::{undo, undo_preview};
pub use views::{ReturnCreditView, ReturnLineView, ReturnStepLineView, ReturnStepView, ReturnView, view};
