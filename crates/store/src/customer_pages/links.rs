//! Links to customers' pages.

use chrono::{DateTime, SecondsFormat, Utc};
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::acceptance::{LinkState, link_expires};
use till_core::calendar::words;
use till_core::ids::{CustomerId, DocumentKind, PageLinkId, QuoteId};
use till_core::messages::address_problem;

use crate::convert::moment;
use crate::deliveries::Said;
use crate::open_items::next_id;
use crate::writing::{Writing, set};
use crate::{Result, StoreError};

fn kept(time: DateTime<Utc>) -> String {
    time.to_rfc3339_opts(SecondsFormat::Secs, true)
}

/// What signs links. It is shown to nobody.
#[derive(Clone)]
pub struct LinkKey(pub [u8; 32]);

impl std::fmt::Debug for LinkKey {
    fn fmt(&self, formatter: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        formatter.write_str("LinkKey(…)")
    }
}

/// What signs links; none where no link was made yet.
///
/// # Errors
/// Where the database cannot be read.
pub async fn key(connection: &mut SqliteConnection) -> Result<Option<LinkKey>> {
    let key = sqlx::query_scalar!("SELECT key FROM page_key").fetch_optional(connection).await?;
    key.map(|key| {
        <[u8; 32]>::try_from(key).map(LinkKey).map_err(|_| StoreError::Corrupt("the key of links".to_owned()))
    })
    .transpose()
}

async fn key_or_new(writing: &mut Writing<'_>) -> Result<LinkKey> {
    if let Some(key) = key(writing).await? {
        return Ok(key);
    }
    let mut bytes = [0_u8; 32];
    getrandom::fill(&mut bytes).map_err(|error| StoreError::Corrupt(format!("no random numbers: {error}")))?;
    let kept = bytes.as_slice();
    sqlx::query!("INSERT INTO page_key (id, key) VALUES (1, ?)", kept).execute(&mut **writing).await?;
    Ok(LinkKey(bytes))
}

/// A link to be made.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct NewLink {
    /// How many days it works.
    pub days: u64,
    /// The quote it goes with.
    #[serde(default)]
    pub quote: Option<QuoteId>,
    /// Whom it is mailed to; none to hand it over another way.
    #[serde(default)]
    pub recipient: Option<String>,
}

/// A link, as its text is made from it.
#[derive(Debug, Clone)]
pub struct MadeLink {
    /// Its id.
    pub id: PageLinkId,
    /// When it stops working.
    pub expires: DateTime<Utc>,
    /// What signs it.
    pub key: LinkKey,
    /// The customer's name.
    pub customer: String,
    /// Number of the quote it goes with.
    pub quote: Option<String>,
    /// Whom it is mailed to.
    pub recipient: Option<String>,
}

/// Makes a link to a customer's page.
///
/// # Errors
/// Days out of bounds, an address that is none, a quote of someone else.
pub async fn make(writing: &mut Writing<'_>, customer: CustomerId, new: &NewLink) -> Result<MadeLink> {
    let row = sqlx::query!("SELECT number, name FROM customers WHERE id = ?", customer.0)
        .fetch_optional(&mut **writing)
        .await?
        .ok_or_else(|| StoreError::not_found(DocumentKind::Customer, customer))?;
    let made = writing.actor().at;
    let expires = link_expires(made, new.days).map_err(|why| StoreError::invalid("days", why))?;
    let recipient = new.recipient.as_deref().map(str::trim).filter(|text| !text.is_empty()).map(str::to_owned);
    if let Some(problem) = recipient.as_deref().and_then(address_problem) {
        return Err(StoreError::invalid("recipient", problem));
    }
    let quote = match new.quote {
        None => None,
        Some(quote) => {
            let number =
                sqlx::query_scalar!("SELECT number FROM quotes WHERE id = ? AND customer_id = ?", quote.0, customer.0);
            let nowhere = || StoreError::invalid("quote", "There is no such quote of this customer.");
            Some(number.fetch_optional(&mut **writing).await?.ok_or_else(nowhere)?)
        }
    };
    let key = key_or_new(writing).await?;
    let id = next_id(writing, "page_links").await?;
    let (quote_id, by) = (new.quote.map(|quote| quote.0), writing.actor().doer.name.clone());
    let (made_at, expires_at) = (kept(made), kept(expires));
    sqlx::query!(
        "INSERT INTO page_links (id, customer_id, quote_id, recipient, made_by, made_at, expires_at) VALUES (?, ?, ?, ?, ?, ?, ?)",
        id, customer.0, quote_id, recipient, by, made_at, expires_at
    )
    .execute(&mut **writing)
    .await?;
    let mut fields = vec![set("works until", words(expires.date_naive()))];
    fields.extend(recipient.as_ref().map(|recipient| set("to", recipient)));
    fields.extend(quote.as_ref().map(|number| set("with", number)));
    let words = format!("made a link to the page of {}", row.name);
    writing.note_on((DocumentKind::Customer, customer.0, &row.number), "link_made", words, None, fields);
    // What is kept is to the second, and so is what is signed.
    Ok(MadeLink { id: PageLinkId(id), expires: moment(&expires_at)?, key, customer: row.name, quote, recipient })
}

/// Writes what became of the message with a link.
///
/// # Errors
/// Where the database cannot be written.
pub async fn mailed(
    writing: &mut Writing<'_>,
    customer: CustomerId,
    (link, to, subject): (PageLinkId, &str, &str),
    said: &Said,
) -> Result<()> {
    let number =
        sqlx::query_scalar!("SELECT number FROM customers WHERE id = ?", customer.0).fetch_one(&mut **writing).await?;
    let at = kept(writing.actor().at);
    let (what, words, mut fields) = match said {
        Said::Took { message } => {
            sqlx::query!(
                "INSERT INTO mailbox (link_id, taken_at, recipient, subject, message) VALUES (?, ?, ?, ?, ?)",
                link.0,
                at,
                to,
                subject,
                message
            )
            .execute(&mut **writing)
            .await?;
            ("mailed", "emailed a link to the customer page", Vec::new())
        }
        Said::Refused { problem } => {
            ("mail_failed", "could not mail a link to the customer page", vec![set("problem", problem)])
        }
    };
    fields.insert(0, set("to", to));
    writing.note_on((DocumentKind::Customer, customer.0, &number), what, words.to_owned(), None, fields);
    Ok(())
}

/// A link in a list. Its text is not kept.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct LinkRow {
    /// Its id.
    pub id: PageLinkId,
    /// Number of the quote it went with.
    pub quote_number: Option<String>,
    /// Whom it was mailed to.
    pub recipient: Option<String>,
    /// Who made it.
    pub made_by: String,
    /// When.
    pub made_at: DateTime<Utc>,
    /// When it stops working.
    pub expires_at: DateTime<Utc>,
    /// Whether it works.
    pub state: LinkState,
    /// How often it was opened.
    pub opened: i64,
    /// When last.
    pub opened_at: Option<DateTime<Utc>>,
}

/// Links of a customer, newest first.
///
/// # Errors
/// Where the database cannot be read.
pub async fn links(
    connection: &mut SqliteConnection,
    customer: CustomerId,
    now: DateTime<Utc>,
) -> Result<Vec<LinkRow>> {
    sqlx::query!(
        r#"SELECT page_links.id, quotes.number AS "quote?: String", recipient, made_by, made_at, expires_at, ended_at, opened, opened_at
           FROM page_links LEFT JOIN quotes ON quotes.id = quote_id WHERE page_links.customer_id = ? ORDER BY page_links.id DESC LIMIT 50"#,
        customer.0
    )
    .fetch_all(connection)
    .await?
    .into_iter()
    .map(|row| {
        let expires_at = moment(&row.expires_at)?;
        Ok(LinkRow {
            id: PageLinkId(row.id),
            quote_number: row.quote,
            recipient: row.recipient,
            made_by: row.made_by,
            made_at: moment(&row.made_at)?,
            expires_at,
            state: LinkState::at(now, expires_at, row.ended_at.is_some()),
            opened: row.opened,
            opened_at: row.opened_at.as_deref().map(moment).transpose()?,
        })
    })
    .collect()
}

/// A link as a request comes with it.
#[derive(Debug, Clone)]
pub struct Link {
    /// Its id.
    pub id: PageLinkId,
    /// Whose page it leads to.
    pub customer: CustomerId,
    /// The customer's name.
    pub customer_name: String,
    /// The quote it went with.
    pub quote: Option<QuoteId>,
    /// When it stops working.
    pub expires: DateTime<Utc>,
    /// Whether it works.
    pub state: LinkState,
}

/// One link; none where there is no such link.
///
/// # Errors
/// Where the database cannot be read.
pub async fn of(connection: &mut SqliteConnection, id: PageLinkId, now: DateTime<Utc>) -> Result<Option<Link>> {
    let row = sqlx::query!(
        "SELECT customer_id, name, quote_id, expires_at, ended_at FROM page_links JOIN customers ON customers.id = customer_id WHERE page_links.id = ?",
        id.0
    )
    .fetch_optional(connection)
    .await?;
    row.map(|row| {
        let expires = moment(&row.expires_at)?;
        Ok(Link {
            id,
            customer: CustomerId(row.customer_id),
            customer_name: row.name,
            quote: row.quote_id.map(QuoteId),
            expires,
            state: LinkState::at(now, expires, row.ended_at.is_some()),
        })
    })
    .transpose()
}

/// What the text of a link of a customer is made from, where it still works.
///
/// # Errors
/// No such link of this customer, or one that does not work any more.
pub async fn text_of(
    connection: &mut SqliteConnection,
    customer: CustomerId,
    id: PageLinkId,
    now: DateTime<Utc>,
) -> Result<(Link, LinkKey)> {
    let link = of(connection, id, now).await?.filter(|link| link.customer == customer);
    let link = link.ok_or_else(|| StoreError::not_found(DocumentKind::Customer, format!("link {id}")))?;
    if link.state != LinkState::Works {
        return Err(StoreError::WrongState("This link does not work any more. Make a new one.".to_owned()));
    }
    let key = key(connection).await?.ok_or_else(|| StoreError::Corrupt("the key of links".to_owned()))?;
    Ok((link, key))
}

/// Puts on the record that a link was shown once more.
///
/// # Errors
/// As [`text_of`].
pub async fn shown(writing: &mut Writing<'_>, customer: CustomerId, id: PageLinkId) -> Result<()> {
    let now = writing.actor().at;
    text_of(writing, customer, id, now).await?;
    let number =
        sqlx::query_scalar!("SELECT number FROM customers WHERE id = ?", customer.0).fetch_one(&mut **writing).await?;
    let words = "looked at a link to the customer page".to_owned();
    writing.note_on((DocumentKind::Customer, customer.0, &number), "link_shown", words, None, Vec::new());
    Ok(())
}

/// Notes that a page was opened. It goes on no record.
///
/// # Errors
/// Where the database cannot be written.
pub async fn opened(connection: &mut SqliteConnection, id: PageLinkId, now: DateTime<Utc>) -> Result<()> {
    let at = kept(now);
    sqlx::query!("UPDATE page_links SET opened = opened + 1, opened_at = ? WHERE id = ?", at, id.0)
        .execute(connection)
        .await?;
    Ok(())
}

/// Ends a link: it leads nowhere from then on.
///
/// # Errors
/// No such link of this customer, or one that was ended before.
pub async fn end(writing: &mut Writing<'_>, customer: CustomerId, id: PageLinkId) -> Result<()> {
    let at = kept(writing.actor().at);
    let ended = sqlx::query!(
        "UPDATE page_links SET ended_at = ? WHERE id = ? AND customer_id = ? AND ended_at IS NULL",
        at,
        id.0,
        customer.0
    )
    .execute(&mut **writing)
    .await?
    .rows_affected();
    if ended == 0 {
        return Err(StoreError::WrongState("There is no such link, or it was ended before.".to_owned()));
    }
    let number =
        sqlx::query_scalar!("SELECT number FROM customers WHERE id = ?", customer.0).fetch_one(&mut **writing).await?;
    let words = "ended a link to the customer page".to_owned();
    writing.note_on((DocumentKind::Customer, customer.0, &number), "link_ended", words, None, Vec::new());
    Ok(())
}
