//! The customer's own page: the links that lead there, what it shows, quotes accepted on it.
//!
//! A link is signed with a key that is in the books and shown to nobody; what is kept of it is whom it leads to and how
//! long, never its text. Everything on the page is asked for by the link's customer, so that it shows that customer's papers
//! and nothing else. *Source: domain.md section 8, customer page.*

mod accepting;
mod links;
mod paying;
mod view;

pub use accepting::{AcceptedView, PageAcceptance, accept, accepted};
pub(crate) use accepting::{is_accepted, settle, waiting};
pub use links::{Link, LinkKey, LinkRow, MadeLink, NewLink, end, key, links, mailed, make, of, opened, shown, text_of};
pub use paying::{PageAsked, PagePayment, PagePays, pay};
pub use view::{
    PageCard, PageInvoice, PageLine, PageOrder, PagePaper, PageQuote, PageShipment, PageSum, PageView, shows, view,
};
