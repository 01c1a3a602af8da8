//! What a visitor is to find in the rooms of billing: habits of customers, work without a
//! shipment, prices with tax, a cancelled invoice, documents on their way, a recipe.

use till_core::ids::{DeliveryId, InvoiceId};
use till_core::invoice::{BillingHabit, Combine, Delivery};
use till_core::marks::Marks;
use till_formats::mail::{self, Mail};
use till_formats::paper::{self, Kind, Parties};
use till_store::customers::CustomerForm;
use till_store::deliveries::{self, DeliveryFilter, MessageView, Said, Way};
use till_store::invoices::{self, AddedLine, InvoiceFilter, ToBill, ToCancelInvoice};
use till_store::rules::Rules;
use till_store::runs::{self, Recipe, RunForm};
use till_store::{Result, Store, StoreError, Writing, customers, rules, shipments};

use crate::company::{People, date};
use crate::goods::{entered, order};
use crate::staff::{INES, SANNA, TOMAS, at_work};
use crate::{BUSINESS_DATE, FIRST_DAY};

type Put = fn(&mut CustomerForm);

/// Customers who get their documents by email.
pub(crate) async fn by_mail(store: &Store, people: &People) -> Result<()> {
    let changes: [(&str, Put); 3] = [
        ("1002", |form| form.email = "accounts@orchardlane.example".to_owned()),
        ("1003", |form| form.email = "till@harrowpike.example".to_owned()),
        ("1008", |form| form.email = "shop@lamplight.example".to_owned()),
    ];
    store
        .change(&at_work(INES, FIRST_DAY), None, async |writing| {
            for (number, change) in changes {
                put(writing, people, number, change).await?;
                put(writing, people, number, |form| form.delivery = Delivery::Email).await?;
            }
            Ok(())
        })
        .await
}

async fn put(writing: &mut Writing<'_>, people: &People, number: &str, change: Put) -> Result<()> {
    let rules = rules::load(writing).await?;
    let id = people.customer(number)?;
    let mut form = customers::form(writing, rules.base, id).await?;
    change(&mut form);
    let version = customers::view(writing, id).await?.version;
    customers::save(writing, &rules, Some((id, version)), &form).await?;
    Ok(())
}

/// How customers want to be billed.
pub(crate) async fn habits(store: &Store, people: &People) -> Result<()> {
    let changes: [(&str, Put); 5] = [
        ("1003", |form| form.billing = BillingHabit::Monthly),
        ("1005", |form| form.billing = BillingHabit::Order),
        ("1006", |form| form.billing = BillingHabit::Weekly),
        ("1010", |form| {
            form.bill_when_complete = true;
            form.billing = BillingHabit::Order;
        }),
        ("1011", |form| form.gross_priced = true),
    ];
    store
        .change(&at_work(INES, BUSINESS_DATE), None, async |writing| {
            for (number, change) in changes {
                put(writing, people, number, change).await?;
            }
            Ok(())
        })
        .await?;
    store
        .change(&at_work(SANNA, BUSINESS_DATE), None, async |writing| {
            deliveries::set_mail(writing, "billing@marramhive.example", deliveries::MailService::Takes).await
        })
        .await
}

/// The cases, as Tomas and Ines left them.
pub(crate) async fn cases(store: &Store, people: &People) -> Result<()> {
    store
        .change(&at_work(TOMAS, BUSINESS_DATE), None, async |writing| {
            work(writing, people).await?;
            with_tax(writing, people).await?;
            direct(writing, people).await
        })
        .await?;
    store
        .change(&at_work(INES, BUSINESS_DATE), None, async |writing| {
            cancelled(writing, people).await?;
            let recipe = Recipe {
                id: None,
                name: "Wednesday round".to_owned(),
                weekday: Some(3),
                form: RunForm { combine: Combine::Habit, ..RunForm::default() },
                customer_names: Vec::new(),
                due: false,
                version: 0,
            };
            runs::keep_recipe(writing, &recipe).await?;
            Ok(())
        })
        .await?;
    gone_out(store).await
}

/// Hives put together at the customer's: work that leaves on no shipment.
async fn work(writing: &mut Writing<'_>, people: &People) -> Result<()> {
    let mut form = order(people.customer("1005")?, &[("ASM", "6")]);
    form.customer_order_number = Some("Q 2026/14".to_owned());
    form.marks.codes.insert("project".to_owned(), "HEATH".to_owned());
    entered(writing, &form, true).await?;
    Ok(())
}

/// A customer whose prices carry the tax: shipped, not billed.
async fn with_tax(writing: &mut Writing<'_>, people: &People) -> Result<()> {
    let rules = rules::load(writing).await?;
    let id = entered(writing, &order(people.customer("1011")?, &[("JR-34", "7"), ("BK-01", "1")]), true).await?;
    let shipment = shipments::start(writing, &rules, id, None).await?;
    shipments::post(writing, &rules, shipment, None, BUSINESS_DATE).await?;
    Ok(())
}

/// A direct invoice: an afternoon of advice, with no order behind it.
async fn direct(writing: &mut Writing<'_>, people: &People) -> Result<()> {
    let rules = rules::load(writing).await?;
    let to_bill = ToBill {
        customer: Some(people.customer("1001")?),
        added: vec![AddedLine {
            item: Some("ASM".to_owned()),
            description: Some("An afternoon at the apiary".to_owned()),
            quantity: "3.5".to_owned(),
            marks: Marks { codes: [("project".to_owned(), "HEATH".to_owned())].into(), ..Marks::default() },
            ..AddedLine::default()
        }],
        text_below: Some("Thank you for the honey.".to_owned()),
        ..ToBill::default()
    };
    invoices::post_picks(writing, &rules, &to_bill, None).await?;
    Ok(())
}

/// An invoice that went to the wrong door: cancelled, and what it billed on a new draft.
async fn cancelled(writing: &mut Writing<'_>, people: &People) -> Result<()> {
    let rules = rules::load(writing).await?;
    let filter = InvoiceFilter {
        state: Some("open".to_owned()),
        customer: Some(people.customer("1006")?),
        limit: 1,
        ..InvoiceFilter::default()
    };
    let Some(invoice) = invoices::list(writing, &filter).await?.invoices.first().map(|row| row.id) else {
        return Ok(());
    };
    let mut wish = ToCancelInvoice {
        reason: "billed to the garden centre, ordered by its café".to_owned(),
        rebill: true,
        ..ToCancelInvoice::default()
    };
    wish.seen = Some(invoices::cancel_preview(writing, &rules, invoice, &wish).await?.fingerprint);
    invoices::cancel(writing, &rules, invoice, &wish).await?;
    Ok(())
}

/// What is older went its way; of the last days some waits, and one message was not taken.
async fn gone_out(store: &Store) -> Result<()> {
    let since = date("2026-03-16")?;
    store
        .change(&at_work(TOMAS, BUSINESS_DATE), None, async |writing| {
            let rules = rules::load(writing).await?;
            let filter =
                DeliveryFilter { state: Some("waiting".to_owned()), limit: 10_000, ..DeliveryFilter::default() };
            let rows = deliveries::list(writing, &filter).await?.rows;
            let old: Vec<DeliveryId> =
                rows.iter().filter(|row| row.way == Way::Print && row.date < since).map(|row| row.id).collect();
            deliveries::printed(writing, &old).await?;
            let mut refused = false;
            for row in rows.iter().filter(|row| row.way == Way::Mail) {
                let view = deliveries::message(writing, &rules, row.id).await?;
                if row.date < since {
                    let message = message(writing, &rules, &view, row.document.id).await?;
                    deliveries::sent(writing, &view, &Said::Took { message }).await?;
                } else if !refused {
                    refused = true;
                    let problem =
                        format!("550 The mail service does not know {}. Check the address, then send again.", view.to);
                    deliveries::sent(writing, &view, &Said::Refused { problem }).await?;
                }
            }
            Ok(())
        })
        .await
}

async fn message(writing: &mut Writing<'_>, rules: &Rules, view: &MessageView, invoice: i64) -> Result<String> {
    let shown = invoices::view(writing, InvoiceId(invoice)).await?;
    let document = shown.document.ok_or_else(|| StoreError::Corrupt("an invoice without lines".to_owned()))?;
    let number = shown.number.unwrap_or_default();
    let parties = Parties {
        company: &rules.company,
        number: &shown.customer.number,
        name: &shown.customer.name,
        address: &shown.customer.address,
        tax_id: shown.customer.tax_id.as_deref(),
    };
    let mail = Mail {
        from: &view.from,
        from_name: &rules.company,
        to: &view.to,
        subject: &view.subject,
        body: &view.body,
        paper: Some((
            &view.attachment,
            paper::html(
                Kind::Invoice { canceled_by: None, pay_to: None },
                &number,
                document.document_date.date,
                &parties,
                &document,
            ),
        )),
        id: &format!("delivery-{}-1", view.delivery.id),
        at: crate::staff::nine(BUSINESS_DATE),
    };
    mail::write(&mail).map_err(|error| StoreError::Corrupt(error.to_string()))
}
