//! Random sequences of operations, sensible and not: after each the books hold.
//! *Source of the properties: domain.md section 14.*
#![allow(missing_docs, clippy::unwrap_used, clippy::explicit_auto_deref)]

mod common;

use common::*;
use proptest::prelude::*;
use till_core::fixed::Quantity;
use till_core::ids::{ApprovalId, InvoiceId, OrderId, PersonId, ReceiptId, RunId, ShipmentId};
use till_core::invoice::Combine;
use till_core::money::Money;
use till_core::people::{LimitKind, Role};
use till_core::shipment::CostEntry;
use till_store::approvals::{self, Viewer};
use till_store::goods_settings::{self, NewGoodsSettings};
use till_store::invoices::{AddedLine, LineKey, NewDiscount, NewPrice, NewTax, Pick, ToBill, ToCancelInvoice};
use till_store::orders::ToCancel;
use till_store::people::{self, NewPerson};
use till_store::receipts::{NewApplication, NewApplications, NewReceipt};
use till_store::runs::{self, RunForm, Standing};
use till_store::settings::{self, NewLimit};
use till_store::shipments::{self, TakeBack};
use till_store::stock::{self, NewCount};
use till_store::{Actor, customers, invoices, items, orders, receipts, rules, unbilled};

#[derive(Debug, Clone)]
enum Step {
    Order { customer: usize, quantity: i64 },
    Ship { order: usize, ten_thousandths: i64 },
    CancelRest { order: usize },
    Bill { picks: Vec<(usize, Option<i64>)> },
    Draft { picks: Vec<(usize, Option<i64>)> },
    PostDraft { draft: usize },
    DropDraft { draft: usize },
    Receive { customer: usize, minor: i64, to: Option<Vec<(usize, i64)>> },
    Apply { receipt: usize, to: Option<Vec<(usize, i64)>> },
    Reprice { draft: usize, person: u8, price: i64 },
    Decide { approval: usize, person: u8, yes: bool },
    Stop { customer: usize, person: u8 },
    TakeBack { shipment: usize },
    Count { item: usize, counted: i64 },
    TakeIn { item: usize, quantity: i64, cost: i64 },
    Aside { order: usize, give: bool },
    Amend { order: usize, quantity: i64 },
    CancelLine { order: usize, ten_thousandths: i64 },
    CostFollows { billing: bool },
    Cancel { invoice: usize, rebill: bool },
    Discount { draft: usize, percent: i64 },
    Tax { draft: usize, code: usize },
    AddLine { draft: usize, price: i64 },
    MakeRun { combine: u8 },
    LeaveOut { run: usize, invoice: usize },
    BeginRun { run: usize },
    GoOnRun { run: usize },
    DropRun { run: usize },
}

fn steps() -> impl Strategy<Value = Vec<Step>> {
    let picks = || prop::collection::vec((0usize..12, prop::option::of(-10_000i64..400_000)), 1..4);
    let targets = || prop::option::of(prop::collection::vec((0usize..8, -100i64..60_000), 0..3));
    prop::collection::vec(
        prop_oneof![
            2 => (0usize..3, 1i64..40).prop_map(|(customer, quantity)| Step::Order { customer, quantity }),
            3 => (0usize..8, 1i64..400_000).prop_map(|(order, ten_thousandths)| Step::Ship { order, ten_thousandths }),
            1 => (0usize..8).prop_map(|order| Step::CancelRest { order }),
            3 => picks().prop_map(|picks| Step::Bill { picks }),
            2 => picks().prop_map(|picks| Step::Draft { picks }),
            1 => (0usize..6).prop_map(|draft| Step::PostDraft { draft }),
            1 => (0usize..6).prop_map(|draft| Step::DropDraft { draft }),
            3 => (0usize..3, -50i64..90_000, targets()).prop_map(|(customer, minor, to)| Step::Receive { customer, minor, to }),
            2 => (0usize..6, targets()).prop_map(|(receipt, to)| Step::Apply { receipt, to }),
            2 => (0usize..6, 0u8..3, -2i64..80).prop_map(|(draft, person, price)| Step::Reprice { draft, person, price }),
            2 => (0usize..6, 0u8..3, any::<bool>()).prop_map(|(approval, person, yes)| Step::Decide { approval, person, yes }),
            1 => (0usize..3, 0u8..3).prop_map(|(customer, person)| Step::Stop { customer, person }),
            2 => (0usize..8).prop_map(|shipment| Step::TakeBack { shipment }),
            1 => (0usize..2, -1i64..1_200).prop_map(|(item, counted)| Step::Count { item, counted }),
            1 => (0usize..2, 0i64..90, -1i64..99_999).prop_map(|(item, quantity, cost)| Step::TakeIn { item, quantity, cost }),
            1 => (0usize..8, any::<bool>()).prop_map(|(order, give)| Step::Aside { order, give }),
            2 => (0usize..8, 0i64..60).prop_map(|(order, quantity)| Step::Amend { order, quantity }),
            1 => (0usize..8, 1i64..400_000).prop_map(|(order, ten_thousandths)| Step::CancelLine { order, ten_thousandths }),
            1 => any::<bool>().prop_map(|billing| Step::CostFollows { billing }),
            2 => (0usize..6, any::<bool>()).prop_map(|(invoice, rebill)| Step::Cancel { invoice, rebill }),
            1 => (0usize..6, 0i64..120).prop_map(|(draft, percent)| Step::Discount { draft, percent }),
            1 => (0usize..6, 0usize..4).prop_map(|(draft, code)| Step::Tax { draft, code }),
            1 => (0usize..6, -1i64..500).prop_map(|(draft, price)| Step::AddLine { draft, price }),
            2 => (0u8..4).prop_map(|combine| Step::MakeRun { combine }),
            1 => (0usize..3, 0usize..4).prop_map(|(run, invoice)| Step::LeaveOut { run, invoice }),
            1 => (0usize..3).prop_map(|run| Step::BeginRun { run }),
            2 => (0usize..3).prop_map(|run| Step::GoOnRun { run }),
            1 => (0usize..3).prop_map(|run| Step::DropRun { run }),
        ],
        4..36,
    )
}

#[derive(Default)]
struct Made {
    orders: Vec<OrderId>,
    shipments: Vec<ShipmentId>,
    drafts: Vec<InvoiceId>,
    invoices: Vec<InvoiceId>,
    receipts: Vec<ReceiptId>,
    approvals: Vec<ApprovalId>,
    runs: Vec<RunId>,
}

async fn picks(company: &Company, wanted: &[(usize, Option<i64>)]) -> ToBill {
    let mut connection = company.store.read().await.unwrap();
    let rules = rules::load(&mut connection).await.unwrap();
    let open = unbilled::list(&mut connection, &rules, &Default::default()).await.unwrap();
    let lines: Vec<_> = open.customers.iter().flat_map(|one| &one.shipments).flat_map(|one| &one.lines).collect();
    let picks = wanted
        .iter()
        .filter(|_| !lines.is_empty())
        .filter_map(|(at, quantity)| {
            let shipment_line = lines[at % lines.len()].shipment_line?;
            Some(Pick { shipment_line, quantity: quantity.map(Quantity::from_scaled) })
        })
        .collect();
    ToBill { picks, ..ToBill::default() }
}

fn targets(made: &Made, to: &Option<Vec<(usize, i64)>>) -> Option<Vec<NewApplication>> {
    to.as_ref().map(|to| {
        to.iter()
            .filter(|_| !made.invoices.is_empty())
            .map(|(at, minor)| NewApplication::to_invoice(made.invoices[at % made.invoices.len()], decimal(*minor)))
            .collect()
    })
}

fn decimal(minor: i64) -> String {
    till_core::money::Currency::of("EUR").unwrap().format(till_core::money::Money(minor))
}

const ROLES: [Role; 3] = [Role::Clerk, Role::Lead, Role::Lead];

fn someone(person: u8) -> Actor {
    let id = PersonId(i64::from(person) + 1);
    Actor::person(id, &format!("person {id}"), ROLES[usize::from(person)], "here", by().at)
}

/// A clerk who may change 20.00 by a price, and two leads who may change 200.00.
async fn staff(company: &Company) {
    let hash = "$argon2id$nobody signs in here";
    company
        .store
        .change(&by(), None, async |writing| {
            for (at, role) in (1..).zip(ROLES) {
                let (sign_in, name) = (format!("p{at}"), format!("person {at}"));
                let new = NewPerson { sign_in: &sign_in, name: &name, role, password_hash: hash, must_change: false };
                people::add(writing, &new).await?;
            }
            for (role, amount) in [(Role::Clerk, "20"), (Role::Lead, "200")] {
                let kind = LimitKind::PriceChange;
                settings::set_limit(writing, &NewLimit { role, kind, amount: Some(amount.to_owned()) }).await?;
            }
            // One of the customers has prices with tax.
            let rules = rules::load(writing).await?;
            let gross = company.customers[1];
            let view = customers::view(writing, gross).await?;
            let mut form = customers::form(writing, rules.base, gross).await?;
            form.gross_priced = true;
            customers::save(writing, &rules, Some((gross, view.version)), &form).await?;
            Ok(())
        })
        .await
        .unwrap();
}

async fn run(company: &Company, made: &mut Made, step: &Step) {
    let store = &company.store;
    match step {
        Step::Order { customer, quantity } => {
            let customer_id = company.customers[*customer];
            let stopped = customers::view(&mut *store.read().await.unwrap(), customer_id).await.unwrap().stop_reason;
            // Nothing is confirmed for a customer on stop.
            if stopped.is_none() {
                made.orders.push(company.order(*customer, *quantity).await);
            }
        }
        Step::Ship { order, ten_thousandths } if !made.orders.is_empty() => {
            let order = made.orders[order % made.orders.len()];
            if let Ok(shipment) = company.try_ship(order, Quantity::from_scaled(*ten_thousandths)).await {
                made.shipments.push(shipment);
            }
        }
        Step::CancelRest { order } if !made.orders.is_empty() => {
            let order = made.orders[order % made.orders.len()];
            let _ = store.change(&by(), None, async |connection| orders::cancel_rest(connection, order).await).await;
        }
        Step::Bill { picks: wanted } => {
            let to_bill = picks(company, wanted).await;
            let posted = store
                .change(&by(), None, async |connection| {
                    let rules = rules::load(connection).await?;
                    invoices::post_picks(connection, &rules, &to_bill, None).await
                })
                .await;
            made.invoices.extend(posted.into_iter().flatten().map(|one| one.id));
        }
        Step::Draft { picks: wanted } => {
            let to_bill = picks(company, wanted).await;
            let drafts = store
                .change(&by(), None, async |connection| {
                    let rules = rules::load(connection).await?;
                    invoices::make_drafts(connection, &rules, &to_bill).await
                })
                .await;
            made.drafts.extend(drafts.into_iter().flatten());
        }
        Step::PostDraft { draft } if !made.drafts.is_empty() => {
            let draft = made.drafts[draft % made.drafts.len()];
            let Ok(view) = invoices::view(&mut *store.read().await.unwrap(), draft).await else { return };
            let posted = store
                .change(&by(), None, async |connection| {
                    let rules = rules::load(connection).await?;
                    invoices::post_draft(connection, &rules, draft, view.version, &view.fingerprint).await
                })
                .await;
            made.invoices.extend(posted.into_iter().map(|one| one.id));
        }
        Step::Reprice { draft, person, price } if !made.drafts.is_empty() => {
            let draft = made.drafts[draft % made.drafts.len()];
            let Ok(view) = invoices::view(&mut *store.read().await.unwrap(), draft).await else { return };
            let Some(line) = view.document.as_ref().and_then(|document| document.lines.first()) else { return };
            let Some(line) = line.source.shipment_line().map(LineKey::Shipped) else { return };
            let new = NewPrice { version: view.version, unit_price: price.to_string(), reason: "by chance".to_owned() };
            let asked = store
                .change(&someone(*person), None, async |writing| {
                    let rules = rules::load(writing).await?;
                    invoices::change_price(writing, &rules, draft, line, &new).await
                })
                .await;
            made.approvals.extend(asked.into_iter().filter_map(|outcome| outcome.waits));
        }
        Step::Decide { approval, person, yes } if !made.approvals.is_empty() => {
            let approval = made.approvals[approval % made.approvals.len()];
            let viewer = Viewer { person: PersonId(i64::from(*person) + 1), role: ROLES[usize::from(*person)] };
            let _ = store
                .change(&someone(*person), None, async |writing| {
                    let rules = rules::load(writing).await?;
                    if *yes {
                        approvals::approve(writing, &rules, approval, viewer).await
                    } else {
                        approvals::decline(writing, approval, "by chance", viewer).await
                    }
                })
                .await;
        }
        Step::Stop { customer, person } => {
            let customer = company.customers[*customer];
            let view = customers::view(&mut *store.read().await.unwrap(), customer).await.unwrap();
            let asked = store
                .change(&someone(*person), None, async |writing| {
                    if view.stop_reason.is_none() {
                        customers::put_on_stop(writing, customer, view.version, "by chance").await?;
                        return Ok(None);
                    }
                    let rules = rules::load(writing).await?;
                    let lifted = customers::lift_stop(writing, &rules, customer, view.version, "by chance").await?;
                    Ok(lifted.waits)
                })
                .await;
            made.approvals.extend(asked.into_iter().flatten());
        }
        Step::DropDraft { draft } if !made.drafts.is_empty() => {
            let draft = made.drafts[draft % made.drafts.len()];
            let Ok(view) = invoices::view(&mut *store.read().await.unwrap(), draft).await else { return };
            let _ = store
                .change(&by(), None, async |connection| invoices::drop_draft(connection, draft, view.version).await)
                .await;
        }
        Step::Receive { customer, minor, to } => {
            let posted = company
                .receive(&NewReceipt {
                    customer: company.customers[*customer],
                    method: if minor % 2 == 0 { "check" } else { "transfer" }.to_owned(),
                    date: None,
                    amount: decimal(*minor),
                    reference: None,
                    applications: targets(made, to),
                    first: None,
                })
                .await;
            made.receipts.extend(posted.into_iter().map(|one| one.id));
        }
        Step::Apply { receipt, to } if !made.receipts.is_empty() => {
            let receipt = made.receipts[receipt % made.receipts.len()];
            let version = receipts::view(&mut *store.read().await.unwrap(), receipt).await.unwrap().version;
            let new = NewApplications { date: None, applications: targets(made, to) };
            let _ = store
                .change(&by(), None, async |connection| {
                    let rules = rules::load(connection).await?;
                    receipts::apply(connection, &rules, receipt, version, &new, None).await
                })
                .await;
        }
        step => run_goods(company, made, step).await,
    }
}

/// Steps of billing beyond single drafts.
async fn run_billing(company: &Company, made: &mut Made, step: &Step) {
    let store = &company.store;
    match step {
        Step::Cancel { invoice, rebill } if !made.invoices.is_empty() => {
            let invoice = made.invoices[invoice % made.invoices.len()];
            let wish =
                ToCancelInvoice { reason: "by chance".to_owned(), rebill: *rebill, ..ToCancelInvoice::default() };
            let done = store
                .change(&by(), None, async |writing| {
                    let rules = rules::load(writing).await?;
                    invoices::cancel(writing, &rules, invoice, &wish).await
                })
                .await;
            made.drafts.extend(done.into_iter().filter_map(|done| done.draft));
        }
        Step::Discount { draft, percent } if !made.drafts.is_empty() => {
            let draft = made.drafts[draft % made.drafts.len()];
            let Ok(view) = invoices::view(&mut *store.read().await.unwrap(), draft).await else { return };
            let new = NewDiscount {
                version: view.version,
                percent: (*percent > 0).then(|| percent.to_string()),
                amount: None,
                reason: "by chance".to_owned(),
            };
            let _ = store
                .change(&by(), None, async |writing| {
                    let rules = rules::load(writing).await?;
                    invoices::change_discount(writing, &rules, draft, &new).await
                })
                .await;
        }
        Step::Tax { draft, code } if !made.drafts.is_empty() => {
            let draft = made.drafts[draft % made.drafts.len()];
            let Ok(view) = invoices::view(&mut *store.read().await.unwrap(), draft).await else { return };
            let Some(line) = view.document.as_ref().and_then(|document| document.lines.first()) else { return };
            let Some(key) = line.source.shipment_line().map(LineKey::Shipped) else { return };
            let tax_code = ["S23", "S135", "Z0", "nothing"][*code].to_owned();
            let new = NewTax { version: view.version, tax_code, reason: "by chance".to_owned() };
            let _ = store
                .change(&by(), None, async |writing| {
                    let rules = rules::load(writing).await?;
                    invoices::change_tax(writing, &rules, draft, key, &new).await
                })
                .await;
        }
        Step::AddLine { draft, price } if !made.drafts.is_empty() => {
            let draft = made.drafts[draft % made.drafts.len()];
            let Ok(view) = invoices::view(&mut *store.read().await.unwrap(), draft).await else { return };
            let Some(mut to_bill) = view.to_bill else { return };
            to_bill.added.push(AddedLine {
                account: Some("4000".to_owned()),
                description: Some("by chance".to_owned()),
                quantity: "1.5".to_owned(),
                unit_price: Some(price.to_string()),
                tax_code: Some("S23".to_owned()),
                ..AddedLine::default()
            });
            let _ = store
                .change(&by(), None, async |writing| {
                    let rules = rules::load(writing).await?;
                    invoices::change_draft(writing, &rules, draft, view.version, &to_bill).await
                })
                .await;
        }
        step => run_runs(company, made, step).await,
    }
}

async fn run_runs(company: &Company, made: &mut Made, step: &Step) {
    let store = &company.store;
    let view = async |run: RunId| {
        let mut books = store.read().await.unwrap();
        let rules = rules::load(&mut books).await.unwrap();
        runs::view(&mut books, &rules, run, None, (100, 0)).await
    };
    match step {
        Step::MakeRun { combine } => {
            let combine = [Combine::Habit, Combine::Customer, Combine::Order, Combine::Shipment][usize::from(*combine)];
            let form = RunForm { combine, ..RunForm::default() };
            let run = store
                .change(&by(), None, async |writing| {
                    let rules = rules::load(writing).await?;
                    runs::make(writing, &rules, &form, None).await
                })
                .await;
            made.runs.extend(run);
        }
        Step::LeaveOut { run, invoice } if !made.runs.is_empty() => {
            let run = made.runs[run % made.runs.len()];
            let Ok(view) = view(run).await else { return };
            let Some(one) = view.invoices.get(invoice % view.invoices.len().max(1)) else { return };
            let (id, out) = (one.id, one.standing != Standing::LeftOut);
            let _ = store
                .change(&by(), None, async |writing| runs::leave_out(writing, run, view.version, &[id], out).await)
                .await;
        }
        Step::BeginRun { run } if !made.runs.is_empty() => {
            let run = made.runs[run % made.runs.len()];
            let Ok(view) = view(run).await else { return };
            let _ = store
                .change(&by(), None, async |writing| {
                    let rules = rules::load(writing).await?;
                    runs::begin(writing, &rules, run, view.version, &view.seen, None).await
                })
                .await;
        }
        Step::GoOnRun { run } if !made.runs.is_empty() => {
            let run = made.runs[run % made.runs.len()];
            let done = store
                .change(&by(), None, async |writing| {
                    let rules = rules::load(writing).await?;
                    runs::go_on(writing, &rules, run).await
                })
                .await;
            if done.is_ok() {
                let posted = view(run).await.unwrap().invoices;
                made.invoices.extend(posted.iter().filter(|one| one.standing == Standing::Posted).map(|one| one.id));
            }
        }
        Step::DropRun { run } if !made.runs.is_empty() => {
            let run = made.runs[run % made.runs.len()];
            let Ok(view) = view(run).await else { return };
            let _ = store.change(&by(), None, async |writing| runs::drop(writing, run, view.version).await).await;
        }
        _ => {}
    }
}

/// Steps of goods and orders: what the store refuses is refused, and the books hold after either.
async fn run_goods(company: &Company, made: &mut Made, step: &Step) {
    let store = &company.store;
    match step {
        Step::TakeBack { shipment } if !made.shipments.is_empty() => {
            let shipment = made.shipments[shipment % made.shipments.len()];
            let version = shipments::view(&mut *store.read().await.unwrap(), shipment).await.unwrap().version;
            let what = TakeBack { version, date: None, reason: "by chance".to_owned() };
            let _ = store
                .change(&by(), None, async |writing| {
                    let rules = rules::load(writing).await?;
                    shipments::take_back(writing, &rules, shipment, &what).await
                })
                .await;
        }
        Step::Count { item, counted } => {
            let (item, counted) = (company.items[*item], counted.to_string());
            let new =
                NewCount { warehouse: None, counted, unit_cost: None, date: None, reason: "by chance".to_owned() };
            let _ = store
                .change(&by(), None, async |writing| {
                    let rules = rules::load(writing).await?;
                    stock::adjust(writing, &rules, item, &new).await
                })
                .await;
        }
        Step::TakeIn { item, quantity, cost } => {
            let (item, quantity, cost) = (company.items[*item], Quantity::from_whole(*quantity), Money(*cost));
            let _ = store
                .change(&by(), None, async |writing| {
                    let rules = rules::load(writing).await?;
                    items::take_in(writing, &rules, item, quantity, cost, day("2026-03-18")).await
                })
                .await;
        }
        Step::Aside { order, give } if !made.orders.is_empty() => {
            let order = made.orders[order % made.orders.len()];
            let line = orders::view(&mut *store.read().await.unwrap(), order).await.unwrap().lines[0].id;
            let _ = store
                .change(&by(), None, async |writing| {
                    if *give {
                        stock::let_go(writing, line).await
                    } else {
                        stock::allocate(writing, order).await.map(|_| ())
                    }
                })
                .await;
        }
        Step::Amend { order, quantity } if !made.orders.is_empty() => {
            let order = made.orders[order % made.orders.len()];
            let view = orders::view(&mut *store.read().await.unwrap(), order).await.unwrap();
            let mut form = view.form;
            form.lines[0].quantity = quantity.to_string();
            let _ = store
                .change(&by(), None, async |writing| {
                    let rules = rules::load(writing).await?;
                    orders::change(writing, &rules, order, view.version, &form).await
                })
                .await;
        }
        Step::CancelLine { order, ten_thousandths } if !made.orders.is_empty() => {
            let order = made.orders[order % made.orders.len()];
            let view = orders::view(&mut *store.read().await.unwrap(), order).await.unwrap();
            let quantity = Some(Quantity::from_scaled(*ten_thousandths).to_string());
            let (line, reason) = (Some(view.lines[0].id), "by chance".to_owned());
            let what = ToCancel { version: view.version, line, quantity, reason };
            let _ = store.change(&by(), None, async |writing| orders::cancel(writing, order, &what).await).await;
        }
        Step::CostFollows { billing } => {
            let now = goods_settings::view(&mut *store.read().await.unwrap()).await.unwrap();
            let new = NewGoodsSettings {
                warehouse: now.warehouse,
                cost_entry: if *billing { CostEntry::AtBilling } else { CostEntry::AtPosting },
                clearing_days: now.clearing_days,
                freight_item: String::new(),
                treatments: Vec::new(),
            };
            let _ = store.change(&by(), None, async |writing| goods_settings::change(writing, &new).await).await;
        }
        step => run_billing(company, made, step).await,
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 24, max_shrink_iters: 200, ..ProptestConfig::default() })]

    #[test]
    fn the_books_hold_after_any_sequence(steps in steps()) {
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
        runtime.block_on(async {
            let company = Company::new().await;
            staff(&company).await;
            let mut made = Made::default();
            for step in &steps {
                run(&company, &mut made, step).await;
            }
            company.holds().await;
        });
    }
}
