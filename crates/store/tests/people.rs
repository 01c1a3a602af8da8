//! Signing in, sessions, limits and approvals, against real books.

use crate::common::*;
use chrono::{DateTime, Duration, Utc};
use till_core::day_sheet::{Next, Work};
use till_core::ids::{ApprovalId, InvoiceId, PersonId, ShipmentLineId};
use till_core::money::Money;
use till_core::people::{ApprovalState, LimitKind, Role, SessionLength};
use till_store::approvals::{self, Viewer};
use till_store::invoices::{self, NewDiscount, NewPrice, ToCancelInvoice, ToMerge};
use till_store::people::{self, NewPerson, sessions};
use till_store::record::{self, RecordFilter};
use till_store::settings::{self, NewLimit};
use till_store::{Actor, StoreError, customers, passwords, rules};

const LENGTH: fn() -> SessionLength = SessionLength::default;

fn now() -> DateTime<Utc> {
    "2026-03-18T10:00:00Z".parse().unwrap()
}

fn acting(id: i64, role: Role) -> Actor {
    Actor::person(PersonId(id), &format!("person {id}"), role, "127.0.0.1", now())
}

fn viewer(id: i64, role: Role) -> Viewer {
    Viewer { person: PersonId(id), role }
}

/// A change by someone no limit holds, with the rules at hand.
macro_rules! change {
    ($company:expr, |$w:ident, $rules:ident| $what:expr) => {
        $company
            .store
            .change(&by(), None, async |$w| {
                let $rules = rules::load($w).await?;
                $what.await
            })
            .await
    };
}

/// Clerk 1, leads 2 and 3, auditor 4, administrator 5; a clerk may change 50.00, a supervisor 500.00.
async fn staffed() -> Company {
    let company = Company::new().await;
    let hash = passwords::hash("clover in the meadow").unwrap();
    let roles = [Role::Clerk, Role::Lead, Role::Lead, Role::Auditor, Role::Administrator];
    company
        .store
        .change(&by(), None, async |writing| {
            for (at, role) in (1..).zip(roles) {
                let (sign_in, name) = (format!("p{at}.x"), format!("person {at}"));
                let new = NewPerson { sign_in: &sign_in, name: &name, role, password_hash: &hash, must_change: false };
                people::add(writing, &new).await?;
            }
            for (role, amount) in [(Role::Clerk, "50"), (Role::Lead, "500")] {
                let kind = LimitKind::PriceChange;
                settings::set_limit(writing, &NewLimit { role, kind, amount: Some(amount.to_owned()) }).await?;
            }
            Ok(())
        })
        .await
        .unwrap();
    company
}

/// A draft over 10 × 59.00.
async fn drafted(company: &Company) -> (InvoiceId, ShipmentLineId) {
    let order = company.order(0, 10).await;
    let shipment = company.ship(order, 10).await;
    let to_bill = company.to_bill(shipment).await;
    let draft = company
        .store
        .change(&by(), None, async |writing| {
            let rules = rules::load(writing).await?;
            invoices::make_drafts(writing, &rules, &to_bill).await
        })
        .await
        .unwrap()[0];
    (draft, to_bill.picks[0].shipment_line)
}

async fn price(
    company: &Company,
    actor: &Actor,
    (draft, line): (InvoiceId, ShipmentLineId),
    version: i64,
    price: &str,
) -> Result<customers::Outcome, StoreError> {
    let new = NewPrice { version, unit_price: price.to_owned(), reason: "scratched, agreed by phone".to_owned() };
    company
        .store
        .change(actor, None, async |writing| {
            let rules = rules::load(writing).await?;
            invoices::change_price(writing, &rules, draft, till_store::invoices::LineKey::Shipped(line), &new).await
        })
        .await
}

async fn decide(
    company: &Company,
    (id, role): (i64, Role),
    approval: ApprovalId,
) -> Result<approvals::ApprovalView, StoreError> {
    company
        .store
        .change(&acting(id, role), None, async |writing| {
            let rules = rules::load(writing).await?;
            approvals::approve(writing, &rules, approval, viewer(id, role)).await
        })
        .await
}

#[tokio::test]
async fn a_price_within_the_limit_is_set_and_above_it_waits_for_someone_else() {
    let company = staffed().await;
    let draft = drafted(&company).await;
    // 10 × 5.00 is 50.00: the clerk's limit exactly.
    let done = price(&company, &acting(1, Role::Clerk), draft, 1, "54.00").await.unwrap();
    assert_eq!(done, customers::Outcome { version: 2, waits: None });
    // One cent a piece more waits, and changes nothing yet.
    let waits = price(&company, &acting(1, Role::Clerk), draft, 2, "53.99").await.unwrap().waits.unwrap();
    let view = invoices::view(&mut *company.store.read().await.unwrap(), draft.0).await.unwrap();
    assert_eq!(view.document.as_ref().unwrap().lines[0].unit_price.to_string(), "54");
    // Asked twice it stands once.
    let again = price(&company, &acting(1, Role::Clerk), draft, 2, "53.99").await;
    assert!(matches!(again, Err(StoreError::WrongState(_))), "{again:?}");

    // It stands on the day sheet of who can approve it, and of nobody else.
    let mut connection = company.store.read().await.unwrap();
    for (id, role, shown) in [(2, Role::Lead, 1), (1, Role::Clerk, 0), (4, Role::Auditor, 0)] {
        let sheet = till_store::day_sheet::day_sheet(&mut connection, Some(viewer(id, role))).await.unwrap();
        let items = sheet.items.iter().filter(|item| item.work == Work::ToApprove).count();
        assert_eq!(items, shown, "{role:?}");
    }
    drop(connection);
    for (id, role) in [(1, Role::Clerk), (4, Role::Auditor), (5, Role::Administrator)] {
        let refused = decide(&company, (id, role), waits).await;
        assert!(matches!(refused, Err(StoreError::NotAllowed(_))), "{role:?}: {refused:?}");
    }
    let approved = decide(&company, (2, Role::Lead), waits).await.unwrap();
    assert_eq!((approved.state, approved.decided_by.as_deref()), (ApprovalState::Approved, Some("person 2")));
    assert!(matches!(decide(&company, (3, Role::Lead), waits).await, Err(StoreError::NotAllowed(_))));

    let mut connection = company.store.read().await.unwrap();
    let view = invoices::view(&mut connection, draft.0).await.unwrap();
    let line = &view.document.as_ref().unwrap().lines[0];
    assert_eq!((line.unit_price.to_string(), line.order_price.to_string()), ("53.99".into(), "59".into()));
    // Maker and approver both stand in the record.
    let filter = RecordFilter { search: Some("changed a price".into()), limit: 1, ..RecordFilter::default() };
    let row = record::list(&mut connection, &filter).await.unwrap().rows.remove(0);
    assert_eq!((row.doer.name.as_str(), row.doer.asked_by.as_deref()), ("person 2", Some("person 1")));
    drop(connection);
    company.holds().await;
}

#[tokio::test]
async fn what_was_allowed_for_a_few_is_not_allowed_for_many() {
    let company = staffed().await;
    let order = company.order(0, 100).await;
    let shipment = company.ship(order, 100).await;
    let mut to_bill = company.to_bill(shipment).await;
    to_bill.picks[0].quantity = Some(till_core::fixed::Quantity::from_whole(10));
    let draft = company
        .store
        .change(&by(), None, async |writing| {
            let rules = rules::load(writing).await?;
            let draft = invoices::make_drafts(writing, &rules, &to_bill).await?[0];
            Ok(draft)
        })
        .await
        .unwrap();
    let line = to_bill.picks[0].shipment_line;
    price(&company, &acting(1, Role::Clerk), (draft, line), 1, "54.00").await.unwrap();
    to_bill.picks[0].quantity = Some(till_core::fixed::Quantity::from_whole(100));
    company
        .store
        .change(&acting(1, Role::Clerk), None, async |writing| {
            let rules = rules::load(writing).await?;
            invoices::change_draft(writing, &rules, draft, 2, &to_bill).await
        })
        .await
        .unwrap();
    let view = invoices::view(&mut *company.store.read().await.unwrap(), draft).await.unwrap();
    let blocker = view.blockers.iter().find(|blocker| blocker.field == "lines.0.unit_price").unwrap();
    assert!(blocker.sentence.contains("500.00 EUR of difference; 50.00 is allowed"), "{}", blocker.sentence);
    let posted = company
        .store
        .change(&acting(1, Role::Clerk), None, async |writing| {
            let rules = rules::load(writing).await?;
            invoices::post_draft(writing, &rules, draft, 3, &view.fingerprint).await
        })
        .await;
    assert!(matches!(posted, Err(StoreError::Refused(_))), "{posted:?}");
    // The order's price takes it back without a reason.
    let back = price(&company, &acting(1, Role::Clerk), (draft, line), 3, "59").await.unwrap();
    assert_eq!(back.waits, None);
    let view = invoices::view(&mut *company.store.read().await.unwrap(), draft).await.unwrap();
    assert_eq!(view.document.unwrap().lines[0].price_reason, None);
}

/// 10 × 5.01 of difference were asked for. Before the lead looks, the draft takes 40 of them: what would be
/// carried out is 200.40, not the 50.10 that was seen.
#[tokio::test]
async fn a_draft_enlarged_after_asking_is_not_approved() {
    let company = staffed().await;
    let order = company.order(0, 40).await;
    let shipment = company.ship(order, 40).await;
    let mut to_bill = company.to_bill(shipment).await;
    let line = to_bill.picks[0].shipment_line;
    let ten = Some(till_core::fixed::Quantity::from_whole(10));
    to_bill.picks[0].quantity = ten;
    let draft = change!(company, |w, rules| invoices::make_drafts(w, &rules, &to_bill)).unwrap()[0];
    let waits = price(&company, &acting(1, Role::Clerk), (draft, line), 1, "53.99").await.unwrap().waits.unwrap();
    to_bill.picks[0].quantity = None;
    change!(company, |w, rules| invoices::change_draft(w, &rules, draft, 1, &to_bill)).unwrap();
    let refused = decide(&company, (2, Role::Lead), waits).await.unwrap_err();
    assert!(refused.to_string().contains("has changed since it was asked for"), "{refused}");
    let price_of = async |draft: InvoiceId| {
        let view = invoices::view(&mut *company.store.read().await.unwrap(), draft).await.unwrap();
        view.document.unwrap().lines[0].unit_price.to_string()
    };
    assert_eq!(price_of(draft).await, "59", "nothing of it was carried out");
    // It still waits; as it was asked for it can be approved, at the version the draft has by then.
    to_bill.picks[0].quantity = ten;
    change!(company, |w, rules| invoices::change_draft(w, &rules, draft, 2, &to_bill)).unwrap();
    let approved = decide(&company, (2, Role::Lead), waits).await.unwrap();
    assert_eq!((approved.state, price_of(draft).await.as_str()), (ApprovalState::Approved, "53.99"));
}

/// 10 × 5.00 were within the clerk's 50.00. Cancelled and billed again they are still; 20 would be 100.00.
/// On 627e442 any amount was allowed on the new draft.
#[tokio::test]
async fn a_cancelled_invoice_billed_again_keeps_its_limits() {
    let company = staffed().await;
    let order = company.order(0, 20).await;
    let shipment = company.ship(order, 20).await;
    let mut to_bill = company.to_bill(shipment).await;
    to_bill.picks[0].quantity = Some(till_core::fixed::Quantity::from_whole(10));
    let line = to_bill.picks[0].shipment_line;
    let draft = change!(company, |w, rules| invoices::make_drafts(w, &rules, &to_bill)).unwrap()[0];
    price(&company, &acting(1, Role::Clerk), (draft, line), 1, "54.00").await.unwrap();
    let discount =
        NewDiscount { version: 2, percent: Some("5".into()), amount: None, reason: "a late delivery".into() };
    company
        .store
        .change(&acting(1, Role::Clerk), None, async |writing| {
            let rules = rules::load(writing).await?;
            invoices::change_discount(writing, &rules, draft, &discount).await
        })
        .await
        .unwrap();
    let seen = invoices::view(&mut *company.store.read().await.unwrap(), draft).await.unwrap();
    change!(company, |w, rules| invoices::post_draft(w, &rules, draft, 3, &seen.fingerprint)).unwrap();
    let wish =
        ToCancelInvoice { reason: "sent to the wrong address".into(), rebill: true, ..ToCancelInvoice::default() };
    let cancelled = change!(company, |w, rules| invoices::cancel(w, &rules, draft, &wish)).unwrap();
    let again = cancelled.draft.unwrap();
    let view = invoices::view(&mut *company.store.read().await.unwrap(), again).await.unwrap();
    assert_eq!(view.blockers, [], "as it was");
    to_bill.picks[0].quantity = None;
    change!(company, |w, rules| invoices::change_draft(w, &rules, again, view.version, &to_bill)).unwrap();
    let view = invoices::view(&mut *company.store.read().await.unwrap(), again).await.unwrap();
    let said: Vec<&str> = view.blockers.iter().map(|blocker| blocker.sentence.as_str()).collect();
    // 20 × (59.00 − 54.00) = 100.00; 5 % of 1,080.00 and the freight of 18.00 = 54.90.
    assert!(said.iter().any(|said| said.contains("100.00 EUR of difference; 50.00 is allowed")), "{said:?}");
    assert!(said.iter().any(|said| said.contains("The discount takes off 54.90 EUR; 50.00 is allowed")), "{said:?}");
}

/// What one asked for and what one left behind stand on one's own day sheet, and on nobody else's.
#[tokio::test]
async fn own_drafts_and_requests_stand_on_ones_own_day_sheet() {
    let company = staffed().await;
    let works = async |id, role| {
        let mut books = company.store.read().await.unwrap();
        let mut found = till_store::day_sheet::day_sheet(&mut books, Some(viewer(id, role))).await.unwrap().items;
        found.retain(|item| matches!(item.work, Work::Drafts | Work::Requested | Work::ToApprove));
        found.into_iter().map(|item| (item.work, item.next, item.title, item.why, item.amount)).collect::<Vec<_>>()
    };
    let draft = drafted(&company).await;
    price(&company, &acting(1, Role::Clerk), draft, 1, "54.00").await.unwrap();
    let name = invoices::view(&mut *company.store.read().await.unwrap(), draft.0).await.unwrap().customer.name;
    let clerk = works(1, Role::Clerk).await;
    // 10 × 54.00 and 18.00 of freight, with 23 %: 558.00 + 128.34.
    assert_eq!(clerk[0].4, Money(68_634), "{clerk:?}");
    assert_eq!((clerk.len(), clerk[0].0, clerk[0].1, &clerk[0].2), (1, Work::Drafts, Next::OpenDraft, &name));
    assert!(clerk[0].3.starts_with("draft of S-"), "{clerk:?}");
    assert_eq!(works(2, Role::Lead).await, []);
    // A price too far down: who asked sees that it waits, who may decide sees it as work.
    price(&company, &acting(1, Role::Clerk), draft, 2, "30.00").await.unwrap().waits.unwrap();
    let clerk = works(1, Role::Clerk).await;
    let asked = clerk.iter().find(|item| item.0 == Work::Requested).unwrap();
    assert!(asked.2.starts_with("Price ") && asked.1 == Next::LookAtRequest, "{asked:?}");
    let lead = works(2, Role::Lead).await;
    assert_eq!((lead.len(), lead[0].0, &lead[0].2), (1, Work::ToApprove, &asked.2), "{lead:?}");
    // Whoever changes the draft last has it on the day sheet.
    price(&company, &acting(2, Role::Lead), draft, 2, "55.00").await.unwrap();
    assert!(works(1, Role::Clerk).await.iter().all(|item| item.0 == Work::Requested));
    assert_eq!(works(2, Role::Lead).await.iter().filter(|item| item.0 == Work::Drafts).count(), 1);
}

#[tokio::test]
async fn nobody_approves_their_own_and_above_every_limit_nobody_does() {
    let company = staffed().await;
    let draft = drafted(&company).await;
    let waits = price(&company, &acting(2, Role::Lead), draft, 1, "1.00").await.unwrap().waits.unwrap();
    let own = decide(&company, (2, Role::Lead), waits).await.unwrap_err();
    assert!(own.to_string().contains("yourself"), "{own}");
    let above = decide(&company, (3, Role::Lead), waits).await.unwrap_err();
    assert!(above.to_string().contains("above the limit of a supervisor too"), "{above}");
    let declined = company
        .store
        .change(&acting(3, Role::Lead), None, async |writing| {
            approvals::decline(writing, waits, "too far down", viewer(3, Role::Lead)).await
        })
        .await
        .unwrap();
    assert_eq!((declined.state, declined.decision.as_deref()), (ApprovalState::Declined, Some("too far down")));
    // A draft that is dropped takes its requests with it.
    let waits = price(&company, &acting(1, Role::Clerk), draft, 1, "2.00").await.unwrap().waits.unwrap();
    company
        .store
        .change(&acting(1, Role::Clerk), None, async |writing| invoices::drop_draft(writing, draft.0, 1).await)
        .await
        .unwrap();
    let view = approvals::view(&mut *company.store.read().await.unwrap(), waits, viewer(3, Role::Lead)).await.unwrap();
    assert_eq!(view.state, ApprovalState::Withdrawn);
    company.holds().await;
}

#[tokio::test]
async fn a_stop_is_lifted_by_a_lead_or_after_asking_one() {
    let company = staffed().await;
    let customer = company.customers[0];
    let stop = async |version| {
        company
            .store
            .change(&acting(1, Role::Clerk), None, async |writing| {
                customers::put_on_stop(writing, customer, version, "returned check").await
            })
            .await
    };
    let lift = async |id, role, version| {
        company
            .store
            .change(&acting(id, role), None, async |writing| {
                let rules = rules::load(writing).await?;
                customers::lift_stop(writing, &rules, customer, Some(version), "paid in cash").await
            })
            .await
    };
    assert_eq!(stop(1).await.unwrap(), 2);
    let asked = lift(1, Role::Clerk, 2).await.unwrap().waits.unwrap();
    let withdrawn = company
        .store
        .change(&acting(1, Role::Clerk), None, async |writing| {
            approvals::withdraw(writing, asked, viewer(1, Role::Clerk)).await
        })
        .await
        .unwrap();
    assert_eq!(withdrawn.state, ApprovalState::Withdrawn);
    let asked = lift(1, Role::Clerk, 2).await.unwrap().waits.unwrap();
    assert_eq!(lift(2, Role::Lead, 2).await.unwrap(), customers::Outcome { version: 3, waits: None });
    let late = decide(&company, (3, Role::Lead), asked).await.unwrap_err();
    assert!(late.to_string().contains("not on hold any more"), "{late}");
    let waiting =
        approvals::view(&mut *company.store.read().await.unwrap(), asked, viewer(3, Role::Lead)).await.unwrap();
    assert_eq!(waiting.state, ApprovalState::Waiting, "what could not be carried out is not approved");
}

#[tokio::test]
async fn two_changes_of_one_draft_are_merged_or_said_to_clash() {
    let company = staffed().await;
    let (draft, _) = drafted(&company).await;
    let mut connection = company.store.read().await.unwrap();
    let view = invoices::view(&mut connection, draft).await.unwrap();
    drop(connection);
    let lines = &view.document.unwrap().lines;
    let pick = |at: usize, quantity: i64| invoices::Pick {
        shipment_line: lines[at].source.shipment_line().unwrap(),
        quantity: Some(till_core::fixed::Quantity::from_whole(quantity)),
    };
    let base = invoices::ToBill { picks: vec![pick(0, 10), pick(1, 1)], ..Default::default() };
    let theirs = invoices::ToBill { picks: vec![pick(0, 8), pick(1, 1)], ..Default::default() };
    company
        .store
        .change(&acting(2, Role::Lead), None, async |writing| {
            let rules = rules::load(writing).await?;
            invoices::change_draft(writing, &rules, draft, 1, &theirs).await
        })
        .await
        .unwrap();
    // Mine leaves the second line out and dates it: nothing that they touched.
    let mine =
        invoices::ToBill { picks: vec![pick(0, 10)], document_date: Some(day("2026-03-16")), ..Default::default() };
    let mut connection = company.store.read().await.unwrap();
    let wish = ToMerge { version: 1, base: base.clone(), mine };
    let merged = invoices::merge(&mut connection, draft, &wish).await.unwrap();
    assert_eq!((merged.version, merged.clashes.len()), (2, 0));
    assert_eq!(merged.merged.picks, vec![pick(0, 8)]);
    assert_eq!(merged.merged.document_date, Some(day("2026-03-16")));
    let seen = &merged.since[0];
    assert_eq!((seen.doer.name.as_str(), seen.deed.changes[0].from.as_deref()), ("person 2", Some("10")));
    // Mine changes the very quantity they changed.
    let mine = invoices::ToBill { picks: vec![pick(0, 5), pick(1, 1)], ..Default::default() };
    let merged = invoices::merge(&mut connection, draft, &ToMerge { version: 1, base, mine }).await.unwrap();
    let clash = &merged.clashes[0];
    assert_eq!(
        (clash.before.as_deref(), clash.mine.as_deref(), clash.theirs.as_deref()),
        (Some("10"), Some("5"), Some("8"))
    );
    assert_eq!(merged.merged.picks[0], pick(0, 5));
}

#[tokio::test]
async fn a_name_is_locked_after_wrong_passwords_whether_anyone_has_it_or_not() {
    let company = staffed().await;
    for typed in ["P1.x ", "nobody.here"] {
        for failure in 1..=6 {
            let known = sessions::look_up(&mut *company.store.read().await.unwrap(), typed, now()).await.unwrap();
            let person = known.person.map(|id| (id, known.name));
            let locked = company
                .store
                .change(&by(), None, async |writing| sessions::refused(writing, typed, person.clone()).await)
                .await
                .unwrap();
            assert_eq!(locked, [0, 0, 0, 0, 15, 30][failure - 1], "{typed}, failure {failure}");
        }
        let found = sessions::look_up(&mut *company.store.read().await.unwrap(), typed, by().at).await.unwrap();
        assert_eq!(found.locked_until.unwrap() - by().at, Duration::seconds(30), "{typed}");
    }
    company
        .store
        .change(&by(), None, async |writing| sessions::begin(writing, PersonId(1), "token", LENGTH()).await)
        .await
        .unwrap();
    let after = sessions::look_up(&mut *company.store.read().await.unwrap(), "p1.x", by().at).await.unwrap();
    assert_eq!(after.locked_until, None, "a right password takes the lock away");
}

#[tokio::test]
async fn sessions_end_by_idleness_by_age_and_by_changing_the_person() {
    let company = staffed().await;
    let begin = async |token: &str, at: DateTime<Utc>| {
        let mut actor = by();
        actor.at = at;
        company
            .store
            .change(&actor, None, async |writing| sessions::begin(writing, PersonId(1), token, LENGTH()).await)
            .await
            .unwrap();
    };
    let holds = async |token: &str, at: DateTime<Utc>| {
        let mut connection = company.store.read().await.unwrap();
        sessions::of_token(&mut connection, token, at, LENGTH()).await.unwrap().is_some()
    };
    begin("first", now()).await;
    assert!(holds("first", now() + Duration::minutes(59)).await);
    assert!(!holds("first", now() + Duration::minutes(60)).await, "idle");
    assert!(!holds("second", now()).await, "a token nobody was given");
    for hour in 1..12 {
        let at = now() + Duration::minutes(59 * hour);
        company.store.jot(async |connection| sessions::used(connection, "first", at).await).await.unwrap();
        assert!(holds("first", at).await, "used each hour");
    }
    company
        .store
        .jot(async |connection| sessions::used(connection, "first", now() + Duration::hours(12)).await)
        .await
        .unwrap();
    assert!(!holds("first", now() + Duration::hours(12)).await, "twelve hours are the longest");

    begin("third", now()).await;
    begin("fourth", now()).await;
    company
        .store
        .change(&acting(1, Role::Clerk), None, async |writing| {
            let hash = passwords::hash("another long password")?;
            sessions::set_own_password(writing, PersonId(1), "fourth", &hash).await
        })
        .await
        .unwrap();
    assert!(!holds("third", now()).await && holds("fourth", now()).await, "a new password ends the other sessions");
    company
        .store
        .change(&acting(5, Role::Administrator), None, async |writing| {
            people::change(writing, PersonId(1), 2, "person 1", Role::Auditor, true).await
        })
        .await
        .unwrap();
    assert!(!holds("fourth", now()).await, "another role ends what was begun in the old one");
    // No token and no password stands anywhere in the books.
    let file = std::fs::read(company.folder.path().join("books.db")).unwrap();
    for secret in ["fourth", "another long password", "clover in the meadow"] {
        assert!(!file.windows(secret.len()).any(|window| window == secret.as_bytes()), "{secret} is in the file");
    }
}

#[tokio::test]
async fn one_administrator_always_stays() {
    let company = staffed().await;
    let change = async |actor: Actor, id, role, active| {
        company
            .store
            .change(&actor, None, async |writing| people::change(writing, PersonId(id), 1, "x", role, active).await)
            .await
    };
    let own = change(acting(5, Role::Administrator), 5, Role::Administrator, false).await.unwrap_err();
    assert!(own.to_string().contains("your own role"), "{own}");
    let last = change(by(), 5, Role::Lead, true).await.unwrap_err();
    assert!(last.to_string().contains("last administrator"), "{last}");
    assert_eq!(change(by(), 4, Role::Administrator, true).await.unwrap(), 2);
    assert_eq!(change(acting(4, Role::Administrator), 5, Role::Lead, true).await.unwrap(), 2);
}
