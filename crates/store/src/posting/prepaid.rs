//! What documents use of what was prepaid, or give back to it.

use sqlx::SqliteConnection;

use super::Of;
use crate::Result;
use crate::convert::json;

/// Uses, and what is given back as an invoice is canceled.
pub(super) async fn write(connection: &mut SqliteConnection, postings: &[Of<'_>]) -> Result<()> {
    let mut rows = Vec::new();
    for (document, posting) in postings {
        for moved in &posting.prepaid {
            let on = (moved.canceled.map_or(document.id, |id| id.0), moved.line);
            let part = (moved.part.net, moved.part.tax, moved.part.net_base);
            rows.push((moved.prepaid, on, moved.date, part, i64::from(moved.canceled.is_some())));
        }
    }
    if rows.is_empty() {
        return Ok(());
    }
    let rows = json(&rows)?;
    sqlx::query!(
        "INSERT INTO prepaid_uses (prepaid_line_id, line_id, posting_date, net_minor, tax_minor, net_base_minor, given_back)
         SELECT value ->> '$[0]', line.id, value ->> '$[2]', value ->> '$[3][0]', value ->> '$[3][1]', value ->> '$[3][2]', value ->> '$[4]'
         FROM jsonb_each(?) CROSS JOIN document_lines AS line
              ON line.document_id = value ->> '$[1][0]' AND line.position = value ->> '$[1][1]'",
        rows
    )
    .execute(connection)
    .await?;
    Ok(())
}
