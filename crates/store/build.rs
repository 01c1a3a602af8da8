//! Applies the migrations to a file in `OUT_DIR`, so that SQLx can check every query at compile
//! time with no database running and no query files checked in.

use std::error::Error;
use std::path::PathBuf;

use sqlx::ConnectOptions;
use sqlx::sqlite::SqliteConnectOptions;

fn main() -> Result<(), Box<dyn Error>> {
    println!("cargo:rerun-if-changed=migrations");
    let out = PathBuf::from(std::env::var("OUT_DIR")?);
    let file = out.join("schema.db");
    if file.exists() {
        std::fs::remove_file(&file)?;
    }
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build()?;
    runtime.block_on(async {
        let mut connection =
            SqliteConnectOptions::new().filename(&file).create_if_missing(true).foreign_keys(false).connect().await?;
        sqlx::migrate::Migrator::new(PathBuf::from("migrations")).await?.run(&mut connection).await?;
        Ok::<(), Box<dyn Error>>(())
    })?;
    println!("cargo:rustc-env=DATABASE_URL=sqlite:{}", file.display());
    Ok(())
}
