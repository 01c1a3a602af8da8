//! What a list shows, as CSV.

use actix_web::http::StatusCode;
use actix_web::web::{Data, Path, Query};
use actix_web::{HttpResponse, get};
use till_core::money::{Currency, Money};
use till_formats::table::{Cell, to_csv};
use till_store::cards::CardFilter;
use till_store::deposits::DepositFilter;
use till_store::invoices::{CreditMemoFilter, InvoiceFilter};
use till_store::prepayments::PrepaymentFilter;
use till_store::returns::ReturnFilter;
use till_store::{
    Connection, Store, StoreError, cards, customers, deposits, invoices, items, ledger, orders, prepayments, receipts,
    returns, rules, shipments, unbilled,
};
use utoipa_actix_web::service_config::ServiceConfig;

use super::Stretch;
use super::billing::Which;
use super::ledger::{AsOf, Days};
use super::orders::WhichLines;
use crate::problem::Problem;

/// The calls of this module.
pub(super) fn configure(config: &mut ServiceConfig<'_>) {
    config.service(export);
}

struct Table {
    headings: &'static [&'static str],
    rows: Vec<Vec<Cell>>,
}

/// Most rows an export holds.
const MOST: i64 = 100_000;

/// A list as CSV, with the filters of its screen.
#[utoipa::path(
    params(("list" = String, Path, description = "orders, open-lines, items, customers, shipments, unbilled, invoices, receipts, credit-memos, deposits, returns, prepayments, journal or trial-balance")),
    responses((status = 200, body = String, content_type = "text/csv"), (status = 404, body = Problem))
)]
#[get("/export/{list}.csv")]
pub(super) async fn export(
    store: Data<Store>,
    list: Path<String>,
    stretch: Query<Stretch>,
    which: Query<Which>,
    days: Query<Days>,
    as_of: Query<AsOf>,
    lines: Query<WhichLines>,
) -> Result<HttpResponse, Problem> {
    let mut connection = store.read().await?;
    let mut stretch = stretch.into_inner();
    stretch.offset = None;
    let table = match list.as_str() {
        "orders" => orders_table(&mut connection, &stretch).await?,
        "open-lines" => open_lines_table(&mut connection, &stretch, &lines).await?,
        "items" => items_table(&mut connection, &stretch).await?,
        "customers" => customers_table(&mut connection, &stretch).await?,
        "shipments" => shipments_table(&mut connection, &stretch).await?,
        "unbilled" => unbilled_table(&mut connection, &which).await?,
        "invoices" => invoices_table(&mut connection, &stretch).await?,
        "receipts" => receipts_table(&mut connection, &stretch).await?,
        "deposits" => deposits_table(&mut connection, &stretch).await?,
        "credit-memos" => credit_memos_table(&mut connection, &stretch).await?,
        "returns" => returns_table(&mut connection, &stretch).await?,
        "prepayments" => prepayments_table(&mut connection, &stretch).await?,
        "cards" => cards_table(&mut connection, &stretch).await?,
        "card-payouts" => payouts_table(&mut connection, &stretch).await?,
        "journal" => journal_table(&mut connection, &stretch, &days).await?,
        "trial-balance" => trial_balance_table(&mut connection, &as_of).await?,
        other => {
            return Err(Problem::new(
                StatusCode::NOT_FOUND,
                "not_found",
                format!("There is no list “{other}” to export."),
            ));
        }
    };
    let bytes = to_csv(table.headings, &table.rows)
        .map_err(|error| Problem::new(StatusCode::INTERNAL_SERVER_ERROR, "not_written", error.to_string()))?;
    Ok(HttpResponse::Ok()
        .content_type("text/csv; charset=utf-8")
        .insert_header(("Content-Disposition", format!("attachment; filename=\"{list}.csv\"")))
        .body(bytes))
}

fn money(currency: Currency, amount: Money) -> Cell {
    Cell::number(currency.format(amount))
}

fn optional(text: Option<impl ToString>) -> Cell {
    Cell::text(text.map(|text| text.to_string()).unwrap_or_default())
}

async fn orders_table(connection: &mut Connection, stretch: &Stretch) -> Result<Table, StoreError> {
    let mut filter = super::orders::filter(stretch, None)?;
    filter.limit = MOST;
    let list = orders::list(connection, &filter).await?;
    let rows = list.orders.iter().map(|order| {
        vec![
            Cell::text(&order.number),
            Cell::text(&order.customer_name),
            optional(order.customer_order_number.as_ref()),
            Cell::text(order.order_date.to_string()),
            optional(order.promised_date),
            Cell::text(order.state.word()),
            Cell::text(order.currency.code()),
            money(order.currency, order.net),
        ]
    });
    Ok(Table {
        headings: &["order", "customer", "customer PO", "ordered", "promised", "state", "currency", "net"],
        rows: rows.collect(),
    })
}

async fn open_lines_table(
    connection: &mut Connection,
    stretch: &Stretch,
    which: &WhichLines,
) -> Result<Table, StoreError> {
    let today = rules::load(connection).await?.business_date;
    let mut filter = super::orders::line_filter(stretch, which);
    filter.limit = MOST;
    let found = orders::open_lines(connection, &filter, today).await?;
    let rows = found.lines.iter().map(|line| {
        vec![
            Cell::text(&line.order_number),
            Cell::text(&line.customer_name),
            Cell::text(&line.code),
            Cell::text(&line.description),
            Cell::text(&line.unit),
            Cell::number(line.ordered.to_string()),
            Cell::number(line.shipped.to_string()),
            Cell::number(line.billed.to_string()),
            Cell::number(line.to_ship.to_string()),
            Cell::number(line.allocated.to_string()),
            Cell::number(line.back_ordered.to_string()),
            optional(line.promised_date),
            optional(line.expected_on),
            Cell::text(line.currency.code()),
            money(line.currency, line.value),
        ]
    });
    Ok(Table {
        headings: &[
            "order",
            "customer",
            "item",
            "description",
            "unit",
            "ordered",
            "shipped",
            "billed",
            "to ship",
            "reserved",
            "back-ordered",
            "promised",
            "expected",
            "currency",
            "value",
        ],
        rows: rows.collect(),
    })
}

async fn items_table(connection: &mut Connection, stretch: &Stretch) -> Result<Table, StoreError> {
    let found = items::list(connection, stretch.search(), false, MOST, 0).await?;
    let rows = found.items.iter().map(|item| {
        vec![
            Cell::text(&item.code),
            Cell::text(&item.name),
            Cell::text(item.kind.word()),
            Cell::text(&item.class),
            Cell::text(&item.unit),
            Cell::number(item.list_price.to_string()),
            Cell::number(item.on_hand.to_string()),
            Cell::number(item.committed.to_string()),
            Cell::number(item.available.to_string()),
            Cell::number(item.back_ordered.to_string()),
            Cell::number(item.expected.to_string()),
        ]
    });
    Ok(Table {
        headings: &[
            "item",
            "name",
            "kind",
            "class",
            "unit",
            "list price",
            "on hand",
            "reserved",
            "available",
            "back-ordered",
            "expected",
        ],
        rows: rows.collect(),
    })
}

async fn customers_table(connection: &mut Connection, stretch: &Stretch) -> Result<Table, StoreError> {
    let base = rules::load(connection).await?.base;
    let found = customers::list(connection, stretch.search()).await?;
    let rows = found.iter().map(|customer| {
        vec![
            Cell::text(&customer.number),
            Cell::text(&customer.name),
            Cell::text(customer.currency.code()),
            Cell::number(customer.open_invoices.to_string()),
            money(base, customer.owes),
        ]
    });
    Ok(Table { headings: &["customer", "name", "currency", "open invoices", "owes"], rows: rows.collect() })
}

async fn shipments_table(connection: &mut Connection, stretch: &Stretch) -> Result<Table, StoreError> {
    let filter = shipments::ShipmentFilter {
        search: stretch.search().map(str::to_owned),
        state: stretch.state.clone().filter(|state| !state.is_empty()),
        limit: MOST,
        offset: 0,
    };
    let list = shipments::list(connection, &filter).await?;
    let rows = list.shipments.iter().map(|shipment| {
        vec![
            Cell::text(&shipment.number),
            Cell::text(&shipment.order_number),
            Cell::text(&shipment.customer_name),
            Cell::text(shipment.packed_date.to_string()),
            optional(shipment.posting_date),
            optional(shipment.carrier.as_ref()),
            Cell::text(&shipment.what),
        ]
    });
    Ok(Table {
        headings: &["shipment", "order", "customer", "packed", "posted", "carrier", "what"],
        rows: rows.collect(),
    })
}

async fn unbilled_table(connection: &mut Connection, which: &Which) -> Result<Table, StoreError> {
    let rules = rules::load(connection).await?;
    let unbilled = unbilled::list(connection, &rules, &which.filter()).await?;
    let mut rows = Vec::new();
    for customer in &unbilled.customers {
        for shipment in &customer.shipments {
            for line in &shipment.lines {
                rows.push(vec![
                    Cell::text(&customer.name),
                    Cell::text(&shipment.number),
                    Cell::text(&shipment.order_number),
                    Cell::text(shipment.shipped_on.to_string()),
                    Cell::number(shipment.days.to_string()),
                    Cell::text(&line.code),
                    Cell::text(&line.description),
                    Cell::number(line.quantity.to_string()),
                    Cell::text(shipment.currency.code()),
                    money(shipment.currency, line.net),
                ]);
            }
        }
    }
    Ok(Table {
        headings: &[
            "customer",
            "shipment",
            "order",
            "shipped",
            "days",
            "item",
            "description",
            "quantity",
            "currency",
            "net",
        ],
        rows,
    })
}

async fn invoices_table(connection: &mut Connection, stretch: &Stretch) -> Result<Table, StoreError> {
    let list = invoices::list(
        connection,
        &InvoiceFilter {
            search: stretch.search().map(str::to_owned),
            state: stretch.state.clone().filter(|state| !state.is_empty()),
            customer: None,
            limit: MOST,
            offset: 0,
        },
    )
    .await?;
    let rows = list.invoices.iter().map(|invoice| {
        let amount =
            |amount: Option<Money>| amount.map_or_else(|| Cell::text(""), |amount| money(invoice.currency, amount));
        vec![
            Cell::text(invoice.number.as_deref().unwrap_or("draft")),
            Cell::text(&invoice.customer_name),
            Cell::text(&invoice.source),
            optional(invoice.document_date),
            optional(invoice.due_date),
            Cell::text(invoice.currency.code()),
            amount(invoice.total),
            amount(invoice.open),
        ]
    });
    Ok(Table {
        headings: &["invoice", "customer", "from", "date", "due", "currency", "total", "open"],
        rows: rows.collect(),
    })
}

async fn receipts_table(connection: &mut Connection, stretch: &Stretch) -> Result<Table, StoreError> {
    let only_unapplied = stretch.state.as_deref() == Some("unapplied");
    let list = receipts::list(connection, stretch.search(), only_unapplied, MOST, 0).await?;
    let rows = list.receipts.iter().map(|receipt| {
        vec![
            Cell::text(&receipt.number),
            Cell::text(&receipt.customer_name),
            Cell::text(receipt.date.to_string()),
            Cell::text(&receipt.method),
            optional(receipt.reference.as_ref()),
            Cell::text(receipt.currency.code()),
            money(receipt.currency, receipt.amount),
            money(receipt.currency, receipt.unapplied),
        ]
    });
    Ok(Table {
        headings: &["receipt", "customer", "date", "method", "reference", "currency", "amount", "unapplied"],
        rows: rows.collect(),
    })
}

async fn prepayments_table(connection: &mut Connection, stretch: &Stretch) -> Result<Table, StoreError> {
    let rules = rules::load(connection).await?;
    let filter = PrepaymentFilter { limit: MOST, offset: 0, ..super::prepayments::filter(stretch, None) };
    let list = prepayments::list(connection, &rules, &filter).await?;
    let rows = list.rows.iter().map(|row| {
        let amount = |amount| money(row.currency, amount);
        vec![
            Cell::text(&row.number),
            Cell::text(&row.customer_name),
            Cell::text(&row.order.number),
            Cell::text(row.document_date.to_string()),
            Cell::text(row.due_date.to_string()),
            Cell::text(row.currency.code()),
            amount(row.total),
            amount(row.open),
            amount(row.net),
            amount(row.used),
            amount(row.credited),
            amount(row.left),
        ]
    });
    Ok(Table {
        headings: &[
            "prepayment invoice",
            "customer",
            "order",
            "date",
            "due",
            "currency",
            "total",
            "balance due",
            "net",
            "used",
            "credited",
            "left",
        ],
        rows: rows.collect(),
    })
}

async fn cards_table(connection: &mut Connection, stretch: &Stretch) -> Result<Table, StoreError> {
    let rules = rules::load(connection).await?;
    let filter = CardFilter {
        search: stretch.search(),
        only_open: stretch.state.as_deref() == Some("open"),
        ..CardFilter::default()
    };
    let list = cards::list(connection, &rules, &filter, (MOST, 0)).await?;
    let rows = list.cards.iter().map(|row| {
        let amount = |amount| money(row.currency, amount);
        vec![
            Cell::text(&row.number),
            Cell::text(&row.customer_name),
            Cell::text(&row.target.number),
            Cell::text(&row.last_four),
            Cell::text(row.asked_on.to_string()),
            Cell::text(row.valid_until.map(|until| until.to_string()).unwrap_or_default()),
            Cell::text(row.state.word()),
            Cell::text(row.currency.code()),
            amount(row.amount),
            amount(row.captured),
            amount(row.left),
            amount(row.to_capture),
        ]
    });
    Ok(Table {
        headings: &[
            "card authorization",
            "customer",
            "order",
            "card ends in",
            "asked for",
            "valid until",
            "state",
            "currency",
            "authorized",
            "captured",
            "left",
            "to capture",
        ],
        rows: rows.collect(),
    })
}

async fn payouts_table(connection: &mut Connection, stretch: &Stretch) -> Result<Table, StoreError> {
    let to_book = stretch.state.as_deref() == Some("to_book");
    let list = cards::payouts(connection, to_book, (MOST, 0)).await?;
    let rows = list.payouts.iter().map(|row| {
        let amount = |amount| money(row.currency, amount);
        vec![
            Cell::text(&row.reference),
            Cell::text(row.paid_on.to_string()),
            Cell::text(row.currency.code()),
            amount(row.gross),
            amount(row.fee),
            amount(row.net),
            Cell::text(row.number.clone().unwrap_or_default()),
        ]
    });
    let headings = &["payout", "paid on", "currency", "gross", "fee", "net", "in the books as"];
    Ok(Table { headings, rows: rows.collect() })
}

async fn credit_memos_table(connection: &mut Connection, stretch: &Stretch) -> Result<Table, StoreError> {
    let only_kept = stretch.state.as_deref() == Some("kept");
    let filter = CreditMemoFilter { search: stretch.search(), only_kept, ..CreditMemoFilter::default() };
    let list = invoices::credit_memos(connection, &filter, (MOST, 0)).await?;
    let rows = list.memos.iter().map(|memo| {
        vec![
            Cell::text(&memo.number),
            Cell::text(memo.date.to_string()),
            Cell::text(&memo.customer_name),
            optional(memo.invoice.as_ref().map(|invoice| &invoice.number)),
            Cell::text(&memo.reason),
            Cell::text(memo.currency.code()),
            money(memo.currency, memo.total),
            money(memo.currency, memo.kept),
        ]
    });
    Ok(Table {
        headings: &["credit memo", "date", "customer", "invoice", "reason", "currency", "credited", "kept"],
        rows: rows.collect(),
    })
}

async fn returns_table(connection: &mut Connection, stretch: &Stretch) -> Result<Table, StoreError> {
    let rules = rules::load(connection).await?;
    let only_open = stretch.state.as_deref() == Some("open");
    let filter = ReturnFilter { search: stretch.search(), only_open, ..ReturnFilter::default() };
    let list = returns::list(connection, &rules, &filter, (MOST, 0)).await?;
    let rows = list.returns.iter().map(|row| {
        vec![
            Cell::text(&row.number),
            Cell::text(&row.customer_name),
            optional(row.reference.as_ref()),
            Cell::text(row.authorized_on.to_string()),
            Cell::text(row.expires_on.to_string()),
            Cell::text(&row.items),
            Cell::text(&row.documents),
            Cell::number(row.progress.authorized.to_string()),
            Cell::number(row.progress.received.to_string()),
            Cell::number(row.progress.credited.to_string()),
            money(rules.base, row.waiting_cost),
        ]
    });
    Ok(Table {
        headings: &[
            "return",
            "customer",
            "reference",
            "authorized",
            "arrives until",
            "items",
            "documents",
            "quantity",
            "received",
            "credited",
            "waiting at cost",
        ],
        rows: rows.collect(),
    })
}

async fn deposits_table(connection: &mut Connection, stretch: &Stretch) -> Result<Table, StoreError> {
    let rules = rules::load(connection).await?;
    let only_held = stretch.state.as_deref() != Some("all");
    let filter = DepositFilter { search: stretch.search(), only_held, ..DepositFilter::default() };
    let list = deposits::list(connection, &rules, &filter, (MOST, 0)).await?;
    let rows = list.deposits.iter().map(|deposit| {
        let amount = |amount| money(deposit.currency, amount);
        vec![
            Cell::text(&deposit.number),
            Cell::text(&deposit.customer_name),
            optional(deposit.order_number.as_ref()),
            Cell::text(deposit.date.to_string()),
            Cell::text(&deposit.method),
            optional(deposit.reference.as_ref()),
            Cell::text(deposit.currency.code()),
            amount(deposit.taken),
            amount(deposit.applied),
            amount(deposit.refunded),
            amount(deposit.kept),
            amount(deposit.held),
        ]
    });
    Ok(Table {
        headings: &[
            "deposit",
            "customer",
            "order",
            "date",
            "method",
            "reference",
            "currency",
            "taken",
            "applied",
            "refunded",
            "kept",
            "held",
        ],
        rows: rows.collect(),
    })
}

async fn journal_table(connection: &mut Connection, stretch: &Stretch, days: &Days) -> Result<Table, StoreError> {
    let base = rules::load(connection).await?.base;
    let mut filter = super::ledger::filter(stretch, days);
    filter.limit = MOST;
    let journal = ledger::journal(connection, &filter).await?;
    let mut rows = Vec::new();
    for posted in &journal.entries {
        for line in &posted.entry.lines {
            let (debit, credit) =
                if line.base.is_positive() { (line.base, Money::ZERO) } else { (Money::ZERO, -line.base) };
            rows.push(vec![
                Cell::number(posted.number.to_string()),
                Cell::text(posted.entry.date.to_string()),
                Cell::text(&posted.source.number),
                Cell::text(&posted.entry.text),
                Cell::text(&line.account),
                Cell::text(&line.account_name),
                money(base, debit),
                money(base, credit),
                Cell::text(line.tax.as_ref().map(|tax| tax.code.clone()).unwrap_or_default()),
            ]);
        }
    }
    Ok(Table {
        headings: &["entry", "date", "document", "text", "account", "name", "debit", "credit", "tax code"],
        rows,
    })
}

async fn trial_balance_table(connection: &mut Connection, as_of: &AsOf) -> Result<Table, StoreError> {
    let base = rules::load(connection).await?.base;
    let date = as_of.date(connection).await?;
    let balance = ledger::trial_balance(connection, date).await?;
    let rows = balance.accounts.iter().map(|account| {
        vec![
            Cell::text(&account.number),
            Cell::text(&account.name),
            money(base, account.debits),
            money(base, account.credits),
            money(base, account.balance),
        ]
    });
    Ok(Table { headings: &["account", "name", "debits", "credits", "balance"], rows: rows.collect() })
}
