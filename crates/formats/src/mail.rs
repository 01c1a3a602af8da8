//! Messages as mail carries them: RFC 5322, with MIME parts for the text and the document.

use chrono::{DateTime, Utc};
use lettre::Message;
use lettre::message::header::ContentType;
use lettre::message::{Attachment, MultiPart, SinglePart};

/// A message to write.
#[derive(Debug, Clone)]
pub struct Mail<'a> {
    /// From whom.
    pub from: &'a str,
    /// The name beside it.
    pub from_name: &'a str,
    /// To whom.
    pub to: &'a str,
    /// What it is about.
    pub subject: &'a str,
    /// The text.
    pub body: &'a str,
    /// The document that goes with it: its name, and HTML.
    pub paper: Option<(&'a str, String)>,
    /// What tells it from all others.
    pub id: &'a str,
    /// When it is sent.
    pub at: DateTime<Utc>,
}

/// Why a message cannot be written.
#[derive(Debug, thiserror::Error)]
pub enum MailError {
    /// An address that is none.
    #[error("“{address}” is no email address. Write it as name@place.example.")]
    Address {
        /// The address.
        address: String,
    },
    /// What the library said.
    #[error("The message cannot be written: {0}.")]
    Message(#[from] lettre::error::Error),
    /// A content type that is none.
    #[error("The message cannot be written: {0}.")]
    Type(#[from] lettre::message::header::ContentTypeErr),
}

/// Writes a message as it goes over the wire.
///
/// # Errors
/// An address that is none.
pub fn write(mail: &Mail<'_>) -> Result<String, MailError> {
    let address =
        |text: &str| text.parse::<lettre::Address>().map_err(|_| MailError::Address { address: text.to_owned() });
    let from = lettre::message::Mailbox::new(Some(mail.from_name.to_owned()), address(mail.from)?);
    let to = lettre::message::Mailbox::new(None, address(mail.to)?);
    let mut parts = MultiPart::mixed().singlepart(SinglePart::plain(mail.body.to_owned()));
    if let Some((name, page)) = &mail.paper {
        let html = ContentType::parse("text/html; charset=utf-8")?;
        parts = parts.singlepart(Attachment::new((*name).to_owned()).body(page.clone().into_bytes(), html));
    }
    let message = Message::builder()
        .from(from)
        .to(to)
        .subject(mail.subject)
        .date(mail.at.into())
        .message_id(Some(format!("<{}@gladtill.example>", mail.id)))
        .multipart(parts)?;
    Ok(String::from_utf8_lossy(&message.formatted()).into_owned())
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used)]

    use super::*;

    fn mail<'a>(to: &'a str, subject: &'a str) -> Mail<'a> {
        Mail {
            from: "billing@marram.example",
            from_name: "Marram Hive Supply",
            to,
            subject,
            body: "Dear customer,\n\nattached is our invoice.",
            paper: Some(("I-7.html", "<!doctype html><title>I-7</title>".to_owned())),
            id: "delivery-7-1",
            at: "2026-03-18T09:30:00Z".parse().unwrap(),
        }
    }

    #[test]
    fn a_message_has_its_headers_its_text_and_its_document() {
        let text = write(&mail("till@orchard.example", "Invoice I-7")).unwrap();
        for expected in [
            "To: till@orchard.example",
            "Subject: Invoice I-7",
            "Message-ID: <delivery-7-1@gladtill.example>",
            "Date: Wed, 18 Mar 2026 09:30:00 +0000",
            "Content-Type: multipart/mixed;",
            "Content-Disposition: attachment; filename=\"I-7.html\"",
            "attached is our invoice.",
        ] {
            assert!(text.contains(expected), "{expected} is missing in\n{text}");
        }
        // RFC 5322: lines end with CR LF.
        assert!(text.lines().count() > 10 && !text.replace("\r\n", "").contains('\n'));
    }

    #[test]
    fn words_of_any_script_are_encoded_and_nothing_is_injected() {
        let text =
            write(&mail("till@orchard.example", "Rechnung für Löwenzahn\r\nBcc: everyone@else.example")).unwrap();
        assert!(text.lines().all(|line| !line.starts_with("Bcc:")), "{text}");
        let header: String = text.lines().take_while(|line| !line.is_empty()).collect();
        assert!(header.is_ascii());
    }

    #[test]
    fn an_address_that_is_none_is_refused() {
        assert!(matches!(write(&mail("nobody", "x")), Err(MailError::Address { .. })));
    }
}
