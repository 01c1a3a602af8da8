//! Building the document: rates, amounts, the discount over all of it, tax, totals.

use std::collections::BTreeMap;

use chrono::NaiveDate;

use crate::checks::{Check, Findings};
use crate::deposit::HeldTax;
use crate::deposit::using::DepositUsed;
use crate::fixed::{ExchangeRate, Quantity, Rate};
use crate::ids::{OrderId, OrderLineId};
use crate::invoice::{
    DocumentDiscount, InvoiceDocument, InvoiceInput, InvoiceLine, ItemKind, LineToBill, OrderShare, TaxDateRule,
    checking, order_of,
};
use crate::money::{Money, line_total_less};
use crate::prepayment::using;
use crate::pricing::offs;
use crate::spread::spread;
use crate::tax::{TaxCategory, TaxComputed, TaxLine, TaxRate, compute, compute_gross};
use crate::terms::DiscountOffer;

pub(super) fn build(input: &InvoiceInput<'_>, findings: &mut Findings) -> InvoiceDocument {
    let currency = input.basis.currency;
    let mut lines: Vec<InvoiceLine> = Vec::with_capacity(input.lines.len());
    let latest = latest_delivery(input);
    for position in 0..input.lines.len() {
        let date = tax_date(input, &input.lines[position], latest);
        let line = line(input, position, date, &lines, findings);
        lines.push(line);
    }
    let lines_total: Money = lines.iter().map(|line| line.amount).sum();
    let discount = discount(input, &mut lines, findings);
    for (line, used) in using::of_lines(input, &lines).into_iter().enumerate() {
        lines[line].prepaid = used;
    }
    let (taxes, nets) = tax_now(&lines, (input.basis.gross_priced, input.tax_computed));
    for (line, now) in lines.iter_mut().zip(nets) {
        line.net = now + line.used().net;
    }
    let net: Money = lines.iter().map(InvoiceLine::net_now).sum();
    let tax: Money = taxes.iter().map(|line| line.tax).sum();
    let owed_back = owed_back(&lines);
    // Money in advance earns nothing by coming early.
    let in_advance = lines.iter().all(|line| line.source.in_advance().is_some());
    let rate = input.rate.unwrap_or(ExchangeRate::ONE);
    let terms = &input.basis.terms;
    let date = input.document_date.date;
    InvoiceDocument {
        customer: input.customer.id,
        currency,
        rate,
        document_date: input.document_date,
        posting_date: input.posting_date,
        tax_date: lines.iter().map(|line| line.tax_date).max().unwrap_or(date),
        tax_computed: input.tax_computed,
        due_date: terms.due_date(date),
        due_parts: terms.schedule(date, net + tax),
        early: terms.offer(date, net - owed_back, net + tax - owed_back).filter(|_| !in_advance),
        terms: terms.clone(),
        text_above: input.text_above.clone(),
        text_below: input.text_below.clone(),
        gross_priced: input.basis.gross_priced,
        order_shares: order_shares(&lines, &taxes, (input.basis.gross_priced, input.tax_computed)),
        lines,
        lines_total,
        discount,
        taxes,
        net,
        tax,
        total: net + tax,
        total_base: (net + tax).to_base(rate, currency, input.base),
        deposits: Vec::new(),
        due: net + tax,
    }
}

/// Tax by code, and the net of each line, of what is billed now: what was prepaid was taxed before, at the rate of that
/// day. *Source: domain.md section 8: tax = round((net − prepaid net used) × rate), per code.*
pub(super) fn tax_now(
    lines: &[InvoiceLine],
    (gross_priced, computed): (bool, TaxComputed),
) -> (Vec<TaxLine>, Vec<Money>) {
    let priced: Vec<(TaxRate, Money)> =
        lines.iter().map(|line| (line.tax.clone(), line.amount_now(gross_priced))).collect();
    if gross_priced {
        return compute_gross(&priced);
    }
    let nets = priced.iter().map(|(_, net)| *net).collect();
    (compute(computed, &priced), nets)
}

/// Puts deposits on the document: they leave exactly the difference to pay, what of the total they cover is carried
/// at their rate, and paying early earns nothing on them. *Source: domain.md sections 5, 8 and 11.*
pub(super) fn apply_deposits(input: &InvoiceInput<'_>, document: &mut InvoiceDocument, used: Vec<DepositUsed>) {
    if used.is_empty() {
        return;
    }
    let covered: Money = used.iter().map(|deposit| deposit.amount).sum();
    let covered_base: Money = used.iter().map(|deposit| deposit.amount_base).sum();
    let total = document.total;
    document.due = total - covered;
    document.total_base = document.due.to_base(document.rate, document.currency, input.base) + covered_base;
    document.deposits = used;
    for at in 0..document.deposits.len() {
        let taxes = std::mem::take(&mut document.deposits[at].taxes);
        document.deposits[at].taxes = taxes.iter().flat_map(|held| by_day(&document.lines, held)).collect();
    }
    let date = document.document_date.date;
    document.due_parts = document.terms.open_parts(date, total, document.due);
    document.early = early_offer(document);
}

/// Tax of a deposit is taken off on the days on which the tax of its code is reported, by what is taxed on each.
fn by_day(lines: &[InvoiceLine], held: &HeldTax) -> Vec<HeldTax> {
    let mut days: BTreeMap<NaiveDate, Money> = BTreeMap::new();
    for line in lines.iter().filter(|line| line.tax == held.rate) {
        *days.entry(line.tax_date).or_default() += line.net_now();
    }
    let nets: Vec<i64> = days.values().map(|net| net.0).collect();
    let over = |amount: Money| spread(amount, &nets);
    let (net, tax) = (over(held.net), over(held.tax));
    let (net_base, tax_base) = (over(held.net_base), over(held.tax_base));
    days.into_keys()
        .enumerate()
        .map(|(at, day)| HeldTax {
            rate: held.rate.clone(),
            tax_date: day,
            net: net[at],
            tax: tax[at],
            net_base: net_base[at],
            tax_base: tax_base[at],
        })
        .filter(|part| !part.gross().is_zero() || !part.gross_base().is_zero())
        .collect()
}

/// What paying early earns: on the invoice less packaging and money in advance.
pub fn early_offer(document: &InvoiceDocument) -> Option<DiscountOffer> {
    let owed_back = owed_back(&document.lines);
    let covered = document.total - document.due;
    let covered_net = covered.share(document.net.0, document.total.0);
    let (net, gross) = (document.net - owed_back - covered_net, document.due - owed_back);
    let offer = document.terms.offer(document.document_date.date, net, gross);
    offer.filter(|_| gross.is_positive() && !document.is_prepayment())
}

/// What returnable packaging on the lines comes to: paying early earns nothing on it.
pub fn owed_back(lines: &[InvoiceLine]) -> Money {
    lines.iter().filter(|line| line.kind == ItemKind::Packaging).map(|line| line.net).sum()
}

/// The latest delivery on the document, where anything on it was delivered.
pub(super) fn latest_delivery(input: &InvoiceInput<'_>) -> Option<NaiveDate> {
    input.lines.iter().filter_map(|line| line.source.shipped_on()).max()
}

/// The day that picks the rate of a line. Work, charges and typed lines stand on no shipment: they
/// take the `latest` delivery on the document. *Source: domain.md section 3.*
fn tax_date(input: &InvoiceInput<'_>, line: &LineToBill, latest: Option<NaiveDate>) -> NaiveDate {
    if let Some(date) = line.tax_date {
        return date;
    }
    match input.tax_date {
        TaxDateRule::Delivery => line.source.shipped_on().or(latest).unwrap_or(input.document_date.date),
        TaxDateRule::Document => input.document_date.date,
    }
}

fn line(
    input: &InvoiceInput<'_>,
    position: usize,
    date: NaiveDate,
    before: &[InvoiceLine],
    findings: &mut Findings,
) -> InvoiceLine {
    let line = &input.lines[position];
    let (ordered, billed) = progress(input, line);
    // Two shipments of one order line on one invoice: the second counts the first.
    let earlier: i64 = before
        .iter()
        .filter(|other| other.source.order_line().is_some() && other.source.order_line() == line.source.order_line())
        .map(|other| other.quantity.scaled())
        .sum();
    let billed_before = Quantity::from_scaled(billed.scaled() + earlier);
    let code = line.tax_change.as_ref().map_or(&line.tax_code, |change| &change.code);
    let tax = input.taxes.rate_on(code, date).unwrap_or_else(|| {
        findings.add(
            Check::TaxRateMissing,
            format!("lines.{position}.tax_code"),
            format!("Tax code {code} has no rate on the tax date. Choose another, or ask a supervisor to add it."),
        );
        TaxRate { code: code.clone(), category: TaxCategory::O, rate: Rate::ZERO }
    });
    checking::check_tax_id(input, &tax, findings);
    checking::check_exemption(input, (position, line), &tax, date, findings);
    let unit_price = line.price_change.as_ref().map_or(line.unit_price, |change| change.unit_price);
    let offs = offs(line.discount, &line.price_steps);
    let amounts = line_total_less(line.quantity, unit_price, &offs, line.surcharge, input.basis.currency);
    checking::check_price(input, position, line, input.basis.currency, findings);
    InvoiceLine {
        source: line.source.clone(),
        item: line.item,
        account: line.account.as_ref().map(|account| account.number.clone()),
        code: line.code.clone(),
        description: line.description.clone(),
        unit: line.unit.clone(),
        ordered,
        billed_before,
        quantity: line.quantity,
        unbilled: line.unbilled,
        still_to_come: Quantity::from_scaled(
            (ordered.scaled() - billed_before.scaled() - line.quantity.scaled()).max(0),
        ),
        unit_price,
        order_price: line.unit_price,
        price_reason: line.price_change.as_ref().map(|change| change.reason.clone()),
        list_price: line.list_price,
        discount: line.discount,
        discount_reason: line.discount_reason.clone(),
        surcharge: line.surcharge,
        surcharge_name: line.surcharge_name.clone(),
        price_steps: line.price_steps.clone(),
        marks: line.marks.clone(),
        kind: line.kind,
        full: amounts.full,
        amount: amounts.net,
        off: Money::ZERO,
        net: amounts.net,
        prepaid: Vec::new(),
        order_tax_code: line.tax_change.as_ref().map(|_| line.tax_code.clone()),
        tax_reason: line.tax_change.as_ref().map(|change| change.reason.clone()),
        tax,
        tax_date: date,
    }
}

/// What the order wants of the line, and what is billed of it.
fn progress(input: &InvoiceInput<'_>, line: &LineToBill) -> (Quantity, Quantity) {
    let of = |order: OrderId, id: OrderLineId| {
        order_of(input, order)?.lines.iter().find(|(known, _)| *known == id).map(|(_, progress)| *progress)
    };
    line.source
        .order()
        .zip(line.source.order_line())
        .and_then(|(order, id)| of(order, id))
        .map_or((line.quantity, Quantity::ZERO), |progress| (progress.wanted(), progress.billed))
}

/// Takes the discount off the lines, by their amounts. Packaging that is owed back is no sale:
/// its deposit is never discounted.
fn discount(input: &InvoiceInput<'_>, lines: &mut [InvoiceLine], findings: &mut Findings) -> Option<DocumentDiscount> {
    let wish = input.discount.as_ref()?;
    let weights: Vec<i64> =
        lines.iter().map(|line| if line.kind == ItemKind::Packaging { 0 } else { line.amount.0 }).collect();
    let sum = Money(weights.iter().sum());
    let amount = match (wish.percent, wish.amount) {
        (Some(percent), _) => sum.times_rate(percent),
        (None, Some(amount)) => amount,
        (None, None) => Money::ZERO,
    };
    if amount < Money::ZERO || amount > sum {
        findings.add(
            Check::DiscountNotAllowed,
            "discount",
            format!(
                "A discount takes off something between nothing and the {} the lines come to.",
                input.basis.currency.grouped(sum)
            ),
        );
        return None;
    }
    if wish.reason.trim().is_empty() {
        findings.add(Check::DiscountNotAllowed, "discount_reason", "Say what the discount is for.");
    }
    checking::check_discount(input, amount, wish, findings);
    for (line, off) in lines.iter_mut().zip(spread(amount, &weights)) {
        line.off = off;
    }
    Some(DocumentDiscount { percent: wish.percent, amount, reason: wish.reason.trim().to_owned() })
}

/// Gross of each order's lines: what was priced with tax is that price, tax worked out line by line is the line's
/// own, and tax of a code over the document is spread over its lines by their net. What was typed on the invoice
/// goes with its first order.
fn order_shares(
    lines: &[InvoiceLine],
    taxes: &[TaxLine],
    (gross_priced, computed): (bool, TaxComputed),
) -> Vec<OrderShare> {
    let Some(first) = lines.iter().find_map(|line| line.source.order()) else { return Vec::new() };
    let mut shares: Vec<OrderShare> = Vec::new();
    let mut add = |order: OrderId, amount: Money| match shares.iter_mut().find(|share| share.order == order) {
        Some(share) => share.gross += amount,
        None => shares.push(OrderShare { order, gross: amount }),
    };
    for line in lines {
        let own = match (gross_priced, computed) {
            (true, _) => line.amount_now(true),
            (false, TaxComputed::PerLine) => line.net_now().with_tax(line.tax.rate),
            (false, TaxComputed::PerDocument) => line.net_now(),
        };
        add(line.source.order().unwrap_or(first), own);
    }
    let spread_out = !gross_priced && computed == TaxComputed::PerDocument;
    for tax in taxes.iter().filter(|_| spread_out) {
        let taxed: Vec<&InvoiceLine> = lines.iter().filter(|line| line.tax == tax.rate).collect();
        let weights: Vec<i64> = taxed.iter().map(|line| line.net_now().0).collect();
        for (line, part) in taxed.iter().zip(spread(tax.tax, &weights)) {
            add(line.source.order().unwrap_or(first), part);
        }
    }
    shares
}
