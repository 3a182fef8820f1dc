//! Runs of rehearsals: kept with everything that came of them, so that later ones can be compared.

use super::{Records, RecordsError};
use bivector_explain::run::{Run, RunState};
use rusqlite::{OptionalExtension, Row, params};

/// Runs that are kept; a run of thirty logins takes about 15 KiB.
const RUNS_KEPT: u32 = 1000;

impl Records {
    /// Writes a new run down; gives its number.
    pub async fn begin_run(&self, run: Run) -> Result<u64, RecordsError> {
        self.write(move |transaction| {
            transaction.execute(
                "INSERT INTO runs (rehearsal, revision, operator, began_us, state, body) VALUES (?1, ?2, ?3, ?4, ?5, ?6)",
                params![run.rehearsal, run.revision as i64, run.operator, run.began_us as i64, run.state.slug(), body(&run)],
            )?;
            let id = transaction.last_insert_rowid() as u64;
            transaction.execute("DELETE FROM runs WHERE id <= (SELECT id FROM runs ORDER BY id DESC LIMIT 1 OFFSET ?1)", [RUNS_KEPT])?;
            Ok(id)
        })
        .await
    }

    /// Writes down how a run ended.
    pub async fn end_run(&self, run: Run) -> Result<(), RecordsError> {
        self.write(move |transaction| {
            transaction
                .execute("UPDATE runs SET state = ?2, body = ?3 WHERE id = ?1", params![run.id as i64, run.state.slug(), body(&run)])
                .map(|_| ())
        })
        .await
    }

    /// Runs that were under way when the service ended are interrupted ones.
    pub async fn end_lost_runs(&self) -> Result<(), RecordsError> {
        self.write(|transaction| {
            transaction.execute("UPDATE runs SET state = ?1 WHERE state = ?2", [RunState::Interrupted.slug(), RunState::Running.slug()])?;
            transaction.execute("DELETE FROM locks WHERE person LIKE 'rehearsal/%'", []).map(|_| ())
        })
        .await
    }

    /// Runs, newest first, without their results; of one rehearsal if it is named.
    pub async fn runs(&self, rehearsal: Option<String>, limit: u32) -> Result<Vec<Run>, RecordsError> {
        let all = self.whole_runs(rehearsal, limit).await?;
        Ok(all.into_iter().map(|run| Run { results: Vec::new(), ..run }).collect())
    }

    async fn whole_runs(&self, rehearsal: Option<String>, limit: u32) -> Result<Vec<Run>, RecordsError> {
        self.read(move |connection| {
            let mut statement = connection
                .prepare_cached("SELECT id, state, body FROM runs WHERE ?1 IS NULL OR rehearsal = ?1 ORDER BY id DESC LIMIT ?2")?;
            let rows = statement.query_map(params![rehearsal, limit], read_run)?;
            rows.filter_map(Result::transpose).collect()
        })
        .await
    }

    /// One run, whole.
    pub async fn run(&self, id: u64) -> Result<Option<Run>, RecordsError> {
        self.read(move |connection| {
            let found = connection.query_row("SELECT id, state, body FROM runs WHERE id = ?1", [id as i64], read_run).optional()?;
            Ok(found.flatten())
        })
        .await
    }

    /// The run of a rehearsal before another one that came to its end.
    pub async fn run_before(&self, rehearsal: String, id: u64) -> Result<Option<Run>, RecordsError> {
        let all = self.whole_runs(Some(rehearsal), RUNS_KEPT).await?;
        Ok(all.into_iter().find(|run| run.id < id && matches!(run.state, RunState::Passed | RunState::Failed) && run.without.is_none()))
    }

    /// Takes out wrong codes that were counted under names with this beginning.
    pub async fn forget_locks(&self, beginning: String) -> Result<(), RecordsError> {
        self.write(move |transaction| {
            transaction
                .execute("DELETE FROM locks WHERE person >= ?1 AND person < ?2", [beginning.clone(), format!("{beginning}\u{10ffff}")])
                .map(|_| ())
        })
        .await
    }
}

fn body(run: &Run) -> String {
    serde_json::to_string(run).unwrap_or_default()
}

/// The columns say number and state, which the body may not have known yet. A body of another version is left out.
fn read_run(row: &Row<'_>) -> rusqlite::Result<Option<Run>> {
    let (id, state, body): (i64, String, String) = (row.get(0)?, row.get(1)?, row.get(2)?);
    let run: Option<Run> = serde_json::from_str(&body).ok();
    let state = serde_json::from_value(serde_json::Value::String(state)).ok();
    Ok(run.map(|run| Run { id: id as u64, state: state.unwrap_or(run.state), ..run }))
}
