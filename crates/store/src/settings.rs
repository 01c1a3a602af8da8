//! The set-up room: company settings, numbers, periods, limits.

use chrono::{NaiveDate, SecondsFormat};
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::deposit::AdvanceTax;
use till_core::deposit::using::DepositUse;
use till_core::invoice::TaxDateRule;
use till_core::money::{Currency, Money};
use till_core::numbering::{MoveNumber, decide_move};
use till_core::people::{Limit, LimitKind, Limits, Right, Role, check_name, has_limits};
use till_core::settle::check_tolerance;
use till_core::tax::TaxComputed;

use crate::convert::{currency, known};
use crate::writing::{Writing, changed, set};
use crate::{Result, StoreError, people};

/// Numbers of one kind of document.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct NumberRange {
    /// What they number: `invoice`, `receipt`, `order`, `shipment`, `entry`.
    pub kind: String,
    /// What stands before the number.
    pub prefix: String,
    /// The next one.
    pub next: i64,
    /// Whether it can be moved forward; the numbers of entries have no gaps at all.
    pub movable: bool,
    /// Numbers passed over, newest first.
    pub void: Vec<VoidNumbers>,
}

/// Numbers that were passed over and stay void.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct VoidNumbers {
    /// The first of them, as printed.
    pub first: String,
    /// The last of them, as printed.
    pub last: String,
    /// Who moved the number.
    pub person: String,
    /// Why.
    pub reason: String,
}

/// A period.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct PeriodRow {
    /// Its first day.
    pub first: NaiveDate,
    /// Its last day.
    pub last: NaiveDate,
    /// Whether entries can be posted into it.
    pub open: bool,
    /// How many entries it has.
    pub entries: i64,
    /// Drafts that would be posted into it.
    pub drafts: i64,
    /// Why it cannot be closed, or opened, now; none where it can.
    pub obstacle: Option<String>,
}

/// What the set-up room shows.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct SetupView {
    /// The company's name.
    pub company: String,
    /// Base currency.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub base_currency: Currency,
    /// How tax is computed.
    pub tax_computed: TaxComputed,
    /// Which day picks the tax rate of a line.
    pub tax_date: TaxDateRule,
    /// Whether a document date before that of the last invoice stops its posting.
    pub dates_in_order: bool,
    /// When tax on money in advance is due; deposits keep the regime they were taken under.
    pub advance_tax: AdvanceTax,
    /// How deposits are used on part invoices.
    pub deposit_use: DepositUse,
    /// Whether goods wait until what was billed in advance of their order is paid.
    pub hold_until_prepaid: bool,
    /// Up to which difference an open item counts as paid, in base currency.
    pub write_off_tolerance: Money,
    /// The day the books stand still on; none for the day on the wall.
    pub fixed_date: Option<NaiveDate>,
    /// Changes with every edit.
    pub version: i64,
    /// Numbers by kind of document.
    pub numbers: Vec<NumberRange>,
    /// Periods, oldest first.
    pub periods: Vec<PeriodRow>,
    /// Limits by role and kind.
    pub limits: Vec<Limit>,
}

/// Reads the set-up.
///
/// # Errors
/// [`StoreError::NotSetUp`] on empty books.
pub async fn view(connection: &mut SqliteConnection) -> Result<SetupView> {
    let company = sqlx::query!(
        r#"SELECT name, base_currency, business_date AS "business_date: NaiveDate", tax_computed, tax_date, dates_in_order, advance_tax, deposit_use, hold_until_prepaid, write_off_tolerance_minor, version FROM company"#
    )
    .fetch_optional(&mut *connection)
    .await?
    .ok_or(StoreError::NotSetUp)?;
    let order = crate::rules::periods(connection).await?;
    let periods = sqlx::query!(
        r#"SELECT first AS "first: NaiveDate", last AS "last: NaiveDate", open,
                  (SELECT count(*) FROM entries WHERE posting_date BETWEEN first AND last) AS "entries!: i64",
                  (SELECT count(*) FROM invoices WHERE state = 'draft' AND coalesce(posting_date, document_date) BETWEEN first AND last) AS "drafts!: i64"
           FROM periods ORDER BY first"#
    )
    .fetch_all(&mut *connection)
    .await?
    .into_iter()
    .map(|row| PeriodRow {
        first: row.first,
        last: row.last,
        open: row.open != 0,
        entries: row.entries,
        drafts: row.drafts,
        obstacle: order.may_set(row.first, row.open == 0).err(),
    })
    .collect();
    let kept = people::limits(connection).await?;
    // The limits of roles that can do something limited; what nobody set is zero.
    let limits = Role::ALL
        .into_iter()
        .filter(|role| has_limits(*role))
        .flat_map(|role| LimitKind::ALL.map(|kind| Limit { role, kind, amount: kept.of(role, kind) }))
        .collect();
    Ok(SetupView {
        company: company.name,
        base_currency: currency(&company.base_currency)?,
        tax_computed: if company.tax_computed == "per_line" { TaxComputed::PerLine } else { TaxComputed::PerDocument },
        tax_date: known(&company.tax_date, TaxDateRule::of)?,
        advance_tax: known(&company.advance_tax, AdvanceTax::of)?,
        deposit_use: known(&company.deposit_use, DepositUse::of)?,
        dates_in_order: company.dates_in_order != 0,
        hold_until_prepaid: company.hold_until_prepaid != 0,
        write_off_tolerance: Money(company.write_off_tolerance_minor),
        fixed_date: company.business_date,
        version: company.version,
        numbers: numbers(connection).await?,
        periods,
        limits,
    })
}

async fn numbers(connection: &mut SqliteConnection) -> Result<Vec<NumberRange>> {
    let void = sqlx::query!("SELECT kind, prefix, first, last, person, reason FROM void_numbers ORDER BY first DESC")
        .fetch_all(&mut *connection)
        .await?;
    let ranges =
        sqlx::query!("SELECT kind, prefix, next FROM number_ranges ORDER BY kind").fetch_all(connection).await?;
    Ok(ranges
        .into_iter()
        .map(|range| NumberRange {
            void: void
                .iter()
                .filter(|void| void.kind == range.kind)
                .map(|void| VoidNumbers {
                    first: format!("{}{}", void.prefix, void.first),
                    last: format!("{}{}", void.prefix, void.last),
                    person: void.person.clone(),
                    reason: void.reason.clone(),
                })
                .collect(),
            movable: range.kind != "entry",
            kind: range.kind,
            prefix: range.prefix,
            next: range.next,
        })
        .collect())
}

/// Moves the next number of a kind forward; what is passed over is void for good.
///
/// # Errors
/// What the core refuses: backwards, too far, no reason; entries, which have no gaps.
pub async fn move_number(writing: &mut Writing<'_>, kind: &str, wish: &MoveNumber) -> Result<()> {
    let range = sqlx::query!("SELECT prefix, next FROM number_ranges WHERE kind = ?", kind)
        .fetch_optional(&mut **writing)
        .await?
        .ok_or_else(|| StoreError::invalid("kind", "There are no numbers of that kind."))?;
    let moved = decide_move(kind, &range.prefix, range.next, wish)
        .map_err(|fault| StoreError::invalid(fault.field, fault.sentence))?;
    let (at, person) =
        (writing.actor().at.to_rfc3339_opts(SecondsFormat::Millis, true), writing.actor().doer.name.clone());
    if let Some((first, last)) = moved.void {
        sqlx::query!(
            "INSERT INTO void_numbers (kind, first, last, prefix, person, reason, made_at) VALUES (?, ?, ?, ?, ?, ?, ?)",
            kind,
            first,
            last,
            range.prefix,
            person,
            moved.reason,
            at
        )
        .execute(&mut **writing)
        .await?;
    }
    sqlx::query!("UPDATE number_ranges SET prefix = ?, next = ? WHERE kind = ?", moved.prefix, wish.next, kind)
        .execute(&mut **writing)
        .await?;
    let (from, to) = (format!("{}{}", range.prefix, range.next), format!("{}{}", moved.prefix, wish.next));
    let mut changes = changed("next number", Some(&from), Some(&to));
    changes.push(set("reason", &moved.reason));
    writing.note_setting(&format!("{kind} numbers"), format!("moved the next {kind} number to {to}"), changes);
    Ok(())
}

/// Settings of the company that can be changed.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct CompanySettings {
    /// The version seen.
    pub version: i64,
    /// The company's name.
    pub company: String,
    /// How tax is computed on documents from now on.
    pub tax_computed: TaxComputed,
    /// Which day picks the tax rate of a line; none to leave it.
    #[serde(default)]
    pub tax_date: Option<TaxDateRule>,
    /// Whether a document date before that of the last invoice stops its posting; none to leave it.
    #[serde(default)]
    pub dates_in_order: Option<bool>,
    /// When tax on money in advance is due; none to leave it.
    #[serde(default)]
    pub advance_tax: Option<AdvanceTax>,
    /// How deposits are used on part invoices; none to leave it.
    #[serde(default)]
    pub deposit_use: Option<DepositUse>,
    /// Whether goods wait until what was billed in advance of their order is paid; none to leave it.
    #[serde(default)]
    pub hold_until_prepaid: Option<bool>,
    /// Up to which difference an open item counts as paid, a decimal in base currency; none to leave it.
    #[serde(default)]
    pub write_off_tolerance: Option<String>,
    /// A day to stand still on, never before the present one; none for the day on the wall.
    pub fixed_date: Option<NaiveDate>,
}

/// Changes the company's settings.
///
/// # Errors
/// [`StoreError::Stale`], a name that cannot be, a business date that goes back.
pub async fn change_company(writing: &mut Writing<'_>, new: &CompanySettings) -> Result<i64> {
    let before = view(writing).await?;
    if before.version != new.version {
        return Err(StoreError::Stale { what: "The set-up".to_owned(), current: before.version });
    }
    let name = check_name(&new.company).map_err(|why| StoreError::invalid("company", why))?;
    if let (Some(was), Some(is)) = (before.fixed_date, new.fixed_date)
        && is < was
    {
        return Err(StoreError::invalid("fixed_date", "The business date never goes back."));
    }
    if let Some(date) = new.fixed_date {
        crate::sensible_date("fixed_date", date)?;
    }
    let computed = |computed: TaxComputed| match computed {
        TaxComputed::PerDocument => "per_document",
        TaxComputed::PerLine => "per_line",
    };
    let tax = computed(new.tax_computed);
    let tax_date = new.tax_date.unwrap_or(before.tax_date).word();
    let advance_tax = new.advance_tax.unwrap_or(before.advance_tax).word();
    let deposit_use = new.deposit_use.unwrap_or(before.deposit_use).word();
    let hold = new.hold_until_prepaid.unwrap_or(before.hold_until_prepaid);
    let in_order = new.dates_in_order.unwrap_or(before.dates_in_order);
    let tolerance = match new.write_off_tolerance.as_deref().filter(|text| !text.trim().is_empty()) {
        Some(text) => before
            .base_currency
            .parse(text)
            .map_err(|error| StoreError::decimal("write_off_tolerance", &error))
            .and_then(|amount| match check_tolerance(amount) {
                Ok(()) => Ok(amount),
                Err(why) => Err(StoreError::invalid("write_off_tolerance", why)),
            })?,
        None => before.write_off_tolerance,
    };
    sqlx::query!(
        "UPDATE company SET name = ?, tax_computed = ?, business_date = ?, tax_date = ?, dates_in_order = ?, advance_tax = ?, deposit_use = ?,
                hold_until_prepaid = ?, write_off_tolerance_minor = ?, version = version + 1",
        name,
        tax,
        new.fixed_date,
        tax_date,
        in_order,
        advance_tax,
        deposit_use,
        hold,
        tolerance.0
    )
    .execute(&mut **writing)
    .await?;
    let day = |date: Option<NaiveDate>| date.map_or_else(|| "as the calendar".to_owned(), till_core::calendar::words);
    let mut changes = changed("name", Some(&before.company), Some(&name));
    changes.extend(changed("tax is computed", Some(computed(before.tax_computed)), Some(tax)));
    changes.extend(changed("business date", Some(&day(before.fixed_date)), Some(&day(new.fixed_date))));
    changes.extend(changed("the tax date is", Some(before.tax_date.word()), Some(tax_date)));
    let word = |in_order: bool| if in_order { "stops" } else { "warns" };
    changes.extend(changed("a date out of order", Some(word(before.dates_in_order)), Some(word(in_order))));
    let said = |regime: &str| if regime == "at_receipt" { "as the money comes in" } else { "with the invoice" };
    let was = before.advance_tax.word();
    changes.extend(changed("tax on money in advance is due", Some(said(was)), Some(said(advance_tax))));
    let said = |way: &str| if way == "first" { "on the first invoices" } else { "in proportion" };
    changes.extend(changed("deposits are used", Some(said(before.deposit_use.word())), Some(said(deposit_use))));
    let word = |hold: bool| if hold { "wait until it is paid" } else { "ship all the same" };
    changes.extend(changed("goods billed in advance", Some(word(before.hold_until_prepaid)), Some(word(hold))));
    let said = |amount: Money| before.base_currency.format(amount);
    let (was, is) = (said(before.write_off_tolerance), said(tolerance));
    changes.extend(changed("differences count as paid up to", Some(&was), Some(&is)));
    writing.note_setting("company", "changed the company's settings", changes);
    Ok(new.version + 1)
}

/// A limit as typed.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct NewLimit {
    /// Whose.
    pub role: Role,
    /// Of what.
    pub kind: LimitKind,
    /// How much each time in base currency; none for no limit.
    pub amount: Option<String>,
}

/// Sets a limit.
///
/// # Errors
/// An amount that cannot be read, or is below zero; a role that has no limits.
pub async fn set_limit(writing: &mut Writing<'_>, new: &NewLimit) -> Result<()> {
    let base = view(writing).await?.base_currency;
    let amount = match new.amount.as_deref().map(str::trim) {
        None => None,
        Some(typed) => {
            let amount = base.parse(typed).map_err(|error| StoreError::decimal("amount", &error))?;
            if amount < Money::ZERO {
                return Err(StoreError::invalid("amount", "A limit is zero or more."));
            }
            Some(amount)
        }
    };
    if !has_limits(new.role) {
        let sentence = format!("The role {} posts nothing, so it has no limits.", new.role.name());
        return Err(StoreError::invalid("role", sentence));
    }
    let before: Limits = people::limits(writing).await?;
    let (role, kind) = (new.role.word(), new.kind.word());
    let minor = amount.map(|amount| amount.0);
    sqlx::query!(
        "INSERT INTO limits (role, kind, amount_minor) VALUES (?1, ?2, ?3)
         ON CONFLICT (role, kind) DO UPDATE SET amount_minor = ?3",
        role,
        kind,
        minor
    )
    .execute(&mut **writing)
    .await?;
    let said = |amount: Option<Money>| amount.map_or_else(|| "no limit".to_owned(), |amount| base.format(amount));
    let changes = changed(
        &format!("{} of a {role}", new.kind.name()),
        Some(&said(before.of(new.role, new.kind))),
        Some(&said(amount)),
    );
    writing.note_setting("limits", format!("set the {} limit of a {role}", new.kind.name()), changes);
    Ok(())
}

/// Adds the month after the last one.
///
/// # Errors
/// Where there is no period to follow, or the last one is more than two years ahead.
pub async fn add_month(writing: &mut Writing<'_>) -> Result<()> {
    let last = sqlx::query_scalar!(r#"SELECT max(last) AS "last: NaiveDate" FROM periods"#)
        .fetch_one(&mut **writing)
        .await?
        .ok_or(StoreError::NotSetUp)?;
    let next = last.succ_opt().unwrap_or(last);
    let today = crate::rules::load(writing).await?.business_date;
    if (next - today).num_days() > 731 {
        return Err(StoreError::invalid("first", "Periods are set up for two years from now already."));
    }
    crate::setup::months(writing, next, next).await
}

/// The table of rights, for the set-up room: each operation with what each role may do.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct RightsRow {
    /// The operation in words.
    pub words: String,
    /// For clerk, lead, auditor, administrator: `yes`, `no`, `asks`, or the kind of the limit.
    pub rights: Vec<String>,
}

/// The table of rights as people read it.
pub fn rights() -> Vec<RightsRow> {
    till_core::people::Operation::ALL
        .iter()
        .map(|operation| RightsRow {
            words: operation.words().to_owned(),
            rights: Role::ALL
                .into_iter()
                .map(|role| match operation.right(role) {
                    Right::Yes => "yes".to_owned(),
                    Right::No => "no".to_owned(),
                    Right::Asks => "asks".to_owned(),
                    Right::UpTo(kind) => format!("up to the {} limit", kind.name()),
                })
                .collect(),
        })
        .collect()
}
