//! Prices, packaging, warehouses, quotes and orders in every state: what a visitor is to find in
//! the rooms of orders and shipments.

use chrono::{Days, NaiveDate};
use till_core::acceptance::QuoteAsks;
use till_core::fixed::Quantity;
use till_core::ids::{CustomerId, OrderId, OrderLineId};
use till_core::invoice::ItemKind;
use till_core::marks::{FieldKind, FieldPlace, Marks, OwnField};
use till_core::money::{Currency, Money};
use till_core::shipment::CostEntry;
use till_core::terms::{DiscountBase, Due, EarlyDiscount, Instalment, SimpleDue, Terms};
use till_core::treatment::{Taxed, Treatment};
use till_store::call_offs::{self, CallOffForm, CallOffLineForm};
use till_store::customers::{Contact, CustomerForm, ShipTo};
use till_store::goods_settings::{self, NewGoodsSettings};
use till_store::invoices::{self, Pick, ToBill};
use till_store::items::{self, ItemForm, SalesUnit};
use till_store::marks::{self, NewCode, NewList};
use till_store::orders::{self, LineForm, Lineage, OrderForm, TypedAddress};
use till_store::prices::{self, NewBreak, NewListPrice, NewPromotion};
use till_store::quotes::{self, QuoteForm};
use till_store::shipments;
use till_store::stock::{self, NewExpected, Warehouse};
use till_store::{Result, Store, StoreError, Writing, customers, rules};

use crate::BUSINESS_DATE;
use crate::company::{People, date};
use crate::staff::{INES, SANNA, TOMAS, at_work};

fn days(from: NaiveDate, days: u64) -> NaiveDate {
    from.checked_add_days(Days::new(days)).unwrap_or(from)
}

/// What an administrator and a supervisor set up: warehouses, fields, prices, packaging.
pub(crate) async fn set_up(store: &Store, people: &People) -> Result<()> {
    store
        .change(&at_work(SANNA, BUSINESS_DATE), None, async |writing| {
            let quay = Warehouse { code: "QUAY".to_owned(), name: "Store at the old quay".to_owned(), counted: true };
            stock::set_warehouse(writing, &quay).await?;
            fields(writing).await?;
            let new = NewGoodsSettings {
                warehouse: "MAIN".to_owned(),
                cost_entry: CostEntry::AtPosting,
                clearing_days: 7,
                freight_item: "FRT".to_owned(),
                treatments: Vec::new(),
            };
            goods_settings::change(writing, &new).await
        })
        .await?;
    store
        .change(&at_work(INES, BUSINESS_DATE), None, async |writing| {
            packaging(writing, people).await?;
            units(writing, people).await?;
            price_lists(writing, people).await?;
            offers(writing).await?;
            let rules = rules::load(writing).await?;
            for (code, quantity, cost) in [("HB-12", 40, 76_000), ("WX-BR", 60, 99_900), ("SM-ST", 12, 25_080)] {
                let item = people.item(code)?;
                items::take_in_at(
                    writing,
                    &rules,
                    item,
                    "QUAY",
                    Quantity::from_whole(quantity),
                    Money(cost),
                    BUSINESS_DATE,
                )
                .await?;
            }
            Ok(())
        })
        .await
}

async fn fields(writing: &mut Writing<'_>) -> Result<()> {
    let field = |key: &str, label: &str, place, kind, choices: &[&str]| OwnField {
        key: key.to_owned(),
        label: label.to_owned(),
        place,
        kind,
        choices: choices.iter().map(|choice| (*choice).to_owned()).collect(),
        required: false,
        active: true,
    };
    marks::set_field(writing, &field("gate", "Gate code", FieldPlace::Order, FieldKind::Text, &[])).await?;
    marks::set_field(
        writing,
        &field("season", "Season", FieldPlace::Order, FieldKind::Choice, &["spring", "harvest", "winter"]),
    )
    .await?;
    marks::set_field(writing, &field("branding", "Branding iron", FieldPlace::Line, FieldKind::YesNo, &[])).await?;
    let code = |code: &str, name: &str| NewCode { code: code.to_owned(), name: name.to_owned() };
    marks::set_list(
        writing,
        &NewList {
            key: "place".to_owned(),
            name: "Place".to_owned(),
            codes: vec![code("SHOP", "Shop"), code("WEB", "Web shop"), code("FAIR", "Fairs")],
            required_by: Vec::new(),
        },
    )
    .await?;
    marks::set_list(
        writing,
        &NewList {
            key: "project".to_owned(),
            name: "Project".to_owned(),
            codes: vec![code("SCHOOL", "Bees in schools"), code("HEATH", "Heath restoration")],
            required_by: vec!["61800".to_owned()],
        },
    )
    .await
}

async fn change_item(
    writing: &mut Writing<'_>,
    people: &People,
    code: &str,
    change: impl FnOnce(&mut ItemForm),
) -> Result<()> {
    let id = people.item(code)?;
    let view = items::view(writing, id).await?;
    let mut form = view.form;
    change(&mut form);
    items::save(writing, Some((id, view.version)), &form).await?;
    Ok(())
}

async fn packaging(writing: &mut Writing<'_>, people: &People) -> Result<()> {
    let drum = ItemForm {
        code: "DRUM".to_owned(),
        name: "Drum, returnable".to_owned(),
        kind: ItemKind::Packaging,
        class: "packaging".to_owned(),
        unit: "pc".to_owned(),
        units: Vec::new(),
        list_price: "9.00".to_owned(),
        tax_code: "O0".to_owned(),
        minimum: String::new(),
        step: String::new(),
        over: String::new(),
        surcharge: String::new(),
        surcharge_name: String::new(),
        share_ahead: String::new(),
        container: String::new(),
        active: true,
    };
    items::save(writing, None, &drum).await?;
    change_item(writing, people, "FD-14", |form| form.container = "DRUM".to_owned()).await
}

async fn units(writing: &mut Writing<'_>, people: &People) -> Result<()> {
    let sold = |unit: &str, factor: &str| SalesUnit { unit: unit.to_owned(), factor: factor.to_owned() };
    change_item(writing, people, "JR-34", |form| form.units = vec![sold("pallet", "60")]).await?;
    change_item(writing, people, "JR-50", |form| {
        form.units = vec![sold("pallet", "54")];
        form.surcharge = "0.15".to_owned();
        form.surcharge_name = "glass levy".to_owned();
    })
    .await?;
    change_item(writing, people, "WX-BR", |form| {
        form.step = "0.5".to_owned();
        form.over = "5".to_owned();
    })
    .await?;
    change_item(writing, people, "LD-GD", |form| form.minimum = "2".to_owned()).await?;
    change_item(writing, people, "EX-09", |form| form.share_ahead = "50".to_owned()).await
}

async fn price_lists(writing: &mut Writing<'_>, people: &People) -> Result<()> {
    let base = rules::load(writing).await?.base;
    let corrupt = |error: till_core::money::UnknownCurrency| StoreError::Corrupt(error.to_string());
    for (name, code, rows, customers_of) in [
        (
            "Trade 2026",
            "EUR",
            [("HB-12", "30.90"), ("FR-50", "43.50"), ("JR-34", "11.20"), ("SM-ST", "35.00")],
            ["1004", "1006"],
        ),
        (
            "Sterling 2026",
            "GBP",
            [("HB-12", "28.60"), ("FR-50", "40.50"), ("SU-FL", "82.00"), ("GL-LE", "17.20")],
            ["3001", ""],
        ),
        (
            "Dollar 2026",
            "USD",
            [("HB-12", "36.40"), ("FR-50", "51.50"), ("SU-FL", "105.00"), ("SM-ST", "42.50")],
            ["3002", ""],
        ),
    ] {
        let list = prices::add_list(writing, name, Currency::of(code).map_err(corrupt)?).await?;
        for (item, price) in rows {
            let new =
                NewListPrice { item: item.to_owned(), valid_from: Some(date("2026-01-01")?), price: price.to_owned() };
            prices::set_price(writing, list, &new, BUSINESS_DATE).await?;
        }
        for number in customers_of.into_iter().filter(|number| !number.is_empty()) {
            let rules = rules::load(writing).await?;
            let id = people.customer(number)?;
            let mut form = customers::form(writing, base, id).await?;
            form.price_list = Some(list);
            let version = customers::view(writing, id).await?.version;
            customers::save(writing, &rules, Some((id, version)), &form).await?;
        }
    }
    Ok(())
}

async fn offers(writing: &mut Writing<'_>) -> Result<()> {
    for (class, from, off) in [
        ("woodenware", "20", "3"),
        ("woodenware", "40", "5"),
        ("jars", "20", "5"),
        ("feed", "20", "5"),
        ("books", "20", "5"),
    ] {
        let new = NewBreak {
            price_list: None,
            item: String::new(),
            class: class.to_owned(),
            from: from.to_owned(),
            off: off.to_owned(),
        };
        prices::set_break(writing, &new).await?;
    }
    for (code, name, first, last, class, off) in [
        ("SPRING26", "spring offer", "2026-03-01", "2026-03-31", "feed", "4"),
        ("FRAMES26", "frame weeks", "2026-03-09", "2026-04-05", "woodenware", "2.5"),
        ("WINTER25", "winter clearance", "2025-12-01", "2026-02-15", "clothing", "15"),
    ] {
        let new = NewPromotion {
            code: code.to_owned(),
            name: name.to_owned(),
            first: date(first)?,
            last: date(last)?,
            item: String::new(),
            class: class.to_owned(),
            off: off.to_owned(),
        };
        prices::set_promotion(writing, &new).await?;
    }
    Ok(())
}

pub(crate) fn order(customer: CustomerId, lines: &[(&str, &str)]) -> OrderForm {
    OrderForm {
        customer,
        requested_date: Some(days(BUSINESS_DATE, 12)),
        promised_date: Some(days(BUSINESS_DATE, 9)),
        lines: lines
            .iter()
            .map(|(item, quantity)| LineForm {
                item: (*item).to_owned(),
                quantity: (*quantity).to_owned(),
                ..LineForm::default()
            })
            .collect(),
        ..OrderForm::default()
    }
}

pub(crate) async fn entered(writing: &mut Writing<'_>, form: &OrderForm, confirm: bool) -> Result<OrderId> {
    let rules = rules::load(writing).await?;
    let id = orders::enter_form(writing, &rules, form, Lineage::default()).await?;
    if confirm {
        orders::confirm_as(writing, &rules, id, None, "regular customer, pays on time").await?;
    }
    Ok(id)
}

/// The cases of the rooms of orders and shipments, as Tomas and Ines left them.
pub(crate) async fn cases(store: &Store, people: &People) -> Result<()> {
    store
        .change(&at_work(INES, BUSINESS_DATE), None, async |writing| {
            ship_tos(writing, people).await?;
            terms(writing, people).await
        })
        .await?;
    store
        .change(&at_work(TOMAS, BUSINESS_DATE), None, async |writing| {
            drums(writing, people).await?;
            short(writing, people).await?;
            called_off(writing, people).await?;
            offered(writing, people).await?;
            marked(writing, people).await?;
            // On hold, and above the limit: these two wait for a supervisor.
            entered(writing, &order(people.customer("1007")?, &[("JR-50", "12"), ("LD-GD", "4")]), true).await?;
            let mut large = order(people.customer("1003")?, &[("HB-12", "60"), ("HB-SU", "90"), ("FR-50", "80")]);
            large.customer_order_number = Some("HPM 260".to_owned());
            entered(writing, &large, true).await?;
            picking(writing, people).await
        })
        .await
}

async fn ship_tos(writing: &mut Writing<'_>, people: &People) -> Result<()> {
    let school = people.customer("1009")?;
    let field = ShipTo {
        id: None,
        code: "FIELD".to_owned(),
        name: "Dunlin School Farm, bee field".to_owned(),
        address: "Far Field, Dunlin".to_owned(),
        country: "MH".to_owned(),
        taxed: Taxed {
            treatment: Treatment::Exempt,
            certificate: Some("EX 20514".to_owned()),
            until: Some(date("2026-02-28")?),
        },
        active: true,
    };
    customers::set_ship_to(writing, school, &field).await?;
    let orchard = people.customer("1002")?;
    for (code, name, address) in [
        ("NORTH", "Orchard Lane, north orchard", "North Gate, Nether Combe"),
        ("SOUTH", "Orchard Lane, south orchard", "Mill Lane 2, Nether Combe"),
    ] {
        let ship_to = ShipTo {
            id: None,
            code: code.to_owned(),
            name: name.to_owned(),
            address: address.to_owned(),
            country: "MH".to_owned(),
            taxed: Taxed::standard(),
            active: true,
        };
        customers::set_ship_to(writing, orchard, &ship_to).await?;
    }
    for (number, name, role, email, phone) in [
        ("1002", "Rosa Finch", "buying", "rosa@orchardlane.example", "555 0142"),
        ("1002", "Edmund Vane", "paying", "accounts@orchardlane.example", "555 0140"),
        ("1001", "Hale Brook", "buying", "hale@saltmarsh.example", "555 0191"),
    ] {
        let contact = Contact {
            id: None,
            name: name.to_owned(),
            company: String::new(),
            email: email.to_owned(),
            phone: phone.to_owned(),
            role: role.to_owned(),
            active: true,
        };
        customers::set_contact(writing, Some(people.customer(number)?), &contact).await?;
    }
    Ok(())
}

/// Every kind of terms is somebody's: with early payment, and in instalments.
async fn terms(writing: &mut Writing<'_>, people: &People) -> Result<()> {
    let rules = rules::load(writing).await?;
    let corrupt = |error: till_core::fixed::DecimalError| StoreError::Corrupt(error.to_string());
    let half = |days| -> Result<Instalment> {
        Ok(Instalment { share: "0.5".parse().map_err(corrupt)?, due: SimpleDue::NetDays { days } })
    };
    let early = EarlyDiscount {
        rate: "0.02".parse().map_err(corrupt)?,
        days: 10,
        base: DiscountBase::Gross,
        grace_days: 3,
        tax_adjusted: true,
    };
    type Put = Box<dyn Fn(&mut CustomerForm) + Send>;
    let changes: [(&str, Put); 3] = [
        ("1008", {
            let terms = Terms { due: Due::Instalments { parts: vec![half(30)?, half(60)?] }, discount: None };
            Box::new(move |form| form.terms = terms.clone())
        }),
        ("1012", Box::new(move |form| form.terms = Terms { discount: Some(early), ..Terms::net_days(30) })),
        (
            "1002",
            Box::new(|form| {
                form.email = "accounts@orchardlane.example".to_owned();
                form.delivery = customers::Delivery::Email;
                form.billing = customers::BillingBy::Weekly;
            }),
        ),
    ];
    for (number, change) in changes {
        let id = people.customer(number)?;
        let mut form = customers::form(writing, rules.base, id).await?;
        change(&mut form);
        let version = customers::view(writing, id).await?.version;
        customers::save(writing, &rules, Some((id, version)), &form).await?;
    }
    Ok(())
}

/// Feed in returnable drums, sent and billed: they are owed back.
async fn drums(writing: &mut Writing<'_>, people: &People) -> Result<()> {
    let rules = rules::load(writing).await?;
    let id = entered(writing, &order(people.customer("1011")?, &[("FD-14", "12")]), true).await?;
    let shipment = shipments::start(writing, &rules, id, None).await?;
    shipments::post(writing, &rules, shipment, None, BUSINESS_DATE).await?;
    let lines = shipments::view(writing, shipment).await?.lines;
    let picks = lines.iter().map(|line| Pick { shipment_line: line.id, quantity: None }).collect();
    invoices::post_picks(writing, &rules, &ToBill { picks, ..ToBill::default() }, None).await?;
    Ok(())
}

/// More extractors than there are; the rest is ordered in.
async fn short(writing: &mut Writing<'_>, people: &People) -> Result<()> {
    let rules = rules::load(writing).await?;
    let mut form = order(people.customer("1002")?, &[("EX-09", "10"), ("GL-LE", "10")]);
    form.customer_order_number = Some("OL 88".to_owned());
    form.tags = vec!["new orchard".to_owned()];
    let id = entered(writing, &form, true).await?;
    let line: OrderLineId = orders::view(writing, id).await?.lines[0].id;
    let expected = NewExpected {
        item: "EX-09".to_owned(),
        warehouse: None,
        quantity: "4".to_owned(),
        expected_on: days(BUSINESS_DATE, 15),
        order_line: Some(line),
    };
    stock::expect(writing, &rules, &expected).await
}

/// A year of jars agreed with Kestrel Moor; the first order of it has been taken.
async fn called_off(writing: &mut Writing<'_>, people: &People) -> Result<()> {
    let kestrel = people.customer("1004")?;
    let line = |item: &str, agreed: &str, price: &str| CallOffLineForm {
        item: item.to_owned(),
        agreed: agreed.to_owned(),
        price: price.to_owned(),
    };
    let call_off = call_offs::enter(
        writing,
        &CallOffForm {
            customer: kestrel,
            customer_order_number: Some("KM frame 2026".to_owned()),
            first: date("2026-02-01")?,
            last: date("2027-01-31")?,
            lines: vec![line("JR-34", "600", "10.60"), line("LD-GD", "300", "8.20")],
        },
    )
    .await?;
    let mut form = order(kestrel, &[("JR-34", "120"), ("LD-GD", "60")]);
    form.call_off = Some(call_off);
    form.customer_order_number = Some("KM 1140".to_owned());
    entered(writing, &form, true).await?;
    Ok(())
}

/// A quote to a customer, and one to a camp that is none yet.
async fn offered(writing: &mut Writing<'_>, people: &People) -> Result<()> {
    let rules = rules::load(writing).await?;
    let mut abbey = order(people.customer("1008")?, &[("HB-12", "24"), ("FR-50", "24"), ("SM-ST", "2")]);
    abbey.note = Some("Hives for the new apiary behind the gatehouse.".to_owned());
    let abbey = QuoteForm {
        order: abbey,
        valid_until: Some(days(BUSINESS_DATE, 30)),
        asks: QuoteAsks::Deposit,
        asks_percent: Some("30".to_owned()),
    };
    quotes::save(writing, &rules, None, &abbey).await?;
    let contact = Contact {
        id: None,
        name: "Lena Moss".to_owned(),
        company: "Hollow Tree Camp".to_owned(),
        email: "lena@hollowtree.example".to_owned(),
        phone: "555 0177".to_owned(),
        role: "buying".to_owned(),
        active: true,
    };
    let contact = customers::set_contact(writing, None, &contact).await?;
    let camp =
        OrderForm { contact: Some(contact), ..order(CustomerId(0), &[("SU-FL", "8"), ("GL-LE", "8"), ("BK-01", "2")]) };
    let camp = QuoteForm { order: camp, valid_until: None, asks: QuoteAsks::Nothing, asks_percent: None };
    quotes::save(writing, &rules, None, &camp).await?;
    Ok(())
}

/// An address typed once, custom fields, a reporting code, tags.
async fn marked(writing: &mut Writing<'_>, people: &People) -> Result<()> {
    let mut form = order(people.customer("1009")?, &[("HB-12", "4"), ("SM-ST", "2")]);
    form.customer_order_number = Some("DSF-7".to_owned());
    form.address = Some(TypedAddress {
        name: "Dunlin spring fair, stand 12".to_owned(),
        address: "Fairground, Dunlin".to_owned(),
        country: "MH".to_owned(),
    });
    form.delivery_terms = Some("DAP".to_owned());
    form.delivery_place = Some("Dunlin".to_owned());
    form.tags = vec!["fair".to_owned(), "spring".to_owned()];
    form.marks = Marks {
        codes: [("place".to_owned(), "FAIR".to_owned())].into(),
        fields: [("gate".to_owned(), "4711".to_owned()), ("season".to_owned(), "spring".to_owned())].into(),
    };
    form.own_note = Some("Call Rosa before the van leaves.".to_owned());
    entered(writing, &form, true).await?;
    Ok(())
}

/// A shipment on its pick list.
async fn picking(writing: &mut Writing<'_>, people: &People) -> Result<()> {
    let rules = rules::load(writing).await?;
    let mut form = order(people.customer("1005")?, &[("HB-SU", "12"), ("FR-50", "6"), ("WX-SH", "4")]);
    form.carrier = Some("Coast & Moor Parcels".to_owned());
    let id = entered(writing, &form, true).await?;
    shipments::start(writing, &rules, id, None).await?;
    Ok(())
}
