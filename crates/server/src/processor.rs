//! The card processor from our side: what was written down is sent, what comes back is read.
//!
//! No answer is an answer too: then nothing is known, and the same is asked again with the same key.

use reqwest::{Method, RequestBuilder};
use serde::de::DeserializeOwned;
use till_core::card::{Answer, Ask};
use till_formats::cards::{captured, new_authorization, refunded, told};
use till_processor::wire::{Amount, Authorization, Capture, NewSession, Problem, Refund, Session};
use till_store::cards::Outgoing;

use crate::settings::CardProcessor;

/// The card processor, or none.
#[derive(Debug, Clone)]
pub struct Processor {
    client: reqwest::Client,
    settings: Option<CardProcessor>,
}

/// Why nothing came of a call.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Failed {
    /// It said no, and will say no again.
    Refused(String),
    /// Nothing is known of what became of it.
    NoAnswer,
}

impl Processor {
    /// For these settings.
    pub fn new(settings: Option<CardProcessor>) -> Self {
        // It answers where it is asked: our key goes nowhere else.
        let client = reqwest::Client::builder().redirect(reqwest::redirect::Policy::none()).build();
        Self { client: client.unwrap_or_default(), settings }
    }

    /// Whether there is one.
    pub const fn is_there(&self) -> bool {
        self.settings.is_some()
    }

    /// What signs its notices; none where there is no processor.
    pub fn secret(&self) -> Option<&str> {
        self.settings.as_ref().map(|settings| settings.secret.as_str())
    }

    /// The address of one of its pages.
    pub fn page(&self, path: &str) -> Option<String> {
        self.settings.as_ref().map(|settings| format!("{}{path}", settings.address))
    }

    fn request(&self, method: Method, path: &str) -> Option<RequestBuilder> {
        let settings = self.settings.as_ref()?;
        let request = self.client.request(method, format!("{}{path}", settings.address));
        Some(request.bearer_auth(&settings.key).timeout(settings.patience))
    }

    async fn answered<T: DeserializeOwned>(request: Option<RequestBuilder>) -> Result<T, Failed> {
        let request = request.ok_or(Failed::NoAnswer)?;
        let answer = request.send().await.map_err(|error| {
            tracing::warn!(%error, "the card processor did not answer");
            Failed::NoAnswer
        })?;
        let status = answer.status();
        let body = answer.bytes().await.map_err(|_| Failed::NoAnswer)?;
        if status.is_success() {
            return serde_json::from_slice(&body).map_err(|error| {
                tracing::error!(%error, "the card processor answered something else");
                Failed::NoAnswer
            });
        }
        // Only what it will say again is taken for a no: not what it is too busy for, nor what it does not know us for.
        let again = status.is_server_error() || matches!(status.as_u16(), 401 | 403 | 408 | 429);
        let problem: Option<Problem> = serde_json::from_slice(&body).ok();
        match problem {
            Some(problem) if !again => Err(Failed::Refused(problem.detail)),
            _ => {
                tracing::warn!(%status, "the card processor could not answer");
                Err(Failed::NoAnswer)
            }
        }
    }

    /// Sends a call with its key; none where nothing is known of what became of it.
    pub async fn send(&self, outgoing: &Outgoing) -> Option<Answer> {
        let to = |path: &str| {
            self.request(Method::POST, path).map(|request| request.header("Idempotency-Key", &outgoing.key))
        };
        let answer = match &outgoing.ask {
            Ask::Authorize { card, amount, currency, number } => {
                let new = new_authorization(card, *amount, *currency, number);
                let request = to("/v1/authorizations").map(|request| request.json(&new));
                Self::answered::<Authorization>(request).await.map(|known| Answer::Authorization(told(&known)))
            }
            Ask::Capture { authorization, amount } => {
                let request = to(&format!("/v1/authorizations/{authorization}/captures"));
                let request = request.map(|request| request.json(&Amount { amount: amount.0 }));
                Self::answered::<Capture>(request).await.map(|capture| captured(&capture))
            }
            Ask::Void { authorization } => {
                let request = to(&format!("/v1/authorizations/{authorization}/void"));
                Self::answered::<Authorization>(request).await.map(|known| Answer::Authorization(told(&known)))
            }
            Ask::Refund { capture, amount } => {
                let request = to(&format!("/v1/captures/{capture}/refunds"));
                let request = request.map(|request| request.json(&Amount { amount: amount.0 }));
                Self::answered::<Refund>(request).await.map(|refund| refunded(&refund))
            }
        };
        match answer {
            Ok(answer) => Some(answer),
            Err(Failed::Refused(words)) => Some(Answer::Refused { words }),
            Err(Failed::NoAnswer) => None,
        }
    }

    /// Asks for a page on which a card is typed; none where there is no answer.
    /// `back` is where the customer goes on afterwards.
    pub async fn open_session(&self, customer: &str, back: Option<String>) -> Option<Session> {
        let new = NewSession { customer: customer.to_owned(), back };
        let request = self.request(Method::POST, "/v1/card-sessions").map(|request| request.json(&new));
        Self::answered(request).await.ok()
    }

    /// Such a page, with the card once it was typed; none where there is no such page.
    ///
    /// # Errors
    /// Where there is no answer.
    pub async fn session(&self, id: &str) -> Result<Option<Session>, Failed> {
        // What is no name of a page leads nowhere else at the processor.
        if id.is_empty() || !id.bytes().all(|byte| byte.is_ascii_alphanumeric()) {
            return Ok(None);
        }
        match Self::answered(self.request(Method::GET, &format!("/v1/card-sessions/{id}"))).await {
            Ok(session) => Ok(Some(session)),
            Err(Failed::Refused(_)) => Ok(None),
            Err(Failed::NoAnswer) => Err(Failed::NoAnswer),
        }
    }
}
