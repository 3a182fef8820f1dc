//! Numbered migrations, run at start. A number, once released, is never edited: add the next one.

use crate::error::ServiceError;
use rusqlite::{Connection, Transaction};
use std::path::Path;

/// What SQL alone cannot do.
type Code = fn(&Transaction<'_>) -> rusqlite::Result<()>;

/// Steps in SQL, and then what SQL alone cannot do, before what is left over goes.
struct Migration {
    sql: &'static str,
    then: Option<(Code, &'static str)>,
}

const fn sql(sql: &'static str) -> Migration {
    Migration { sql, then: None }
}

const MIGRATIONS: &[Migration] = &[
    // 1: the first layout
    sql("CREATE TABLE meta (key TEXT PRIMARY KEY, value BLOB NOT NULL) WITHOUT ROWID;
     CREATE TABLE revisions (
         number INTEGER PRIMARY KEY, applied_us INTEGER NOT NULL, operator TEXT NOT NULL, note TEXT NOT NULL, text TEXT NOT NULL);
     CREATE TABLE secrets (name TEXT PRIMARY KEY, sealed BLOB NOT NULL, set_us INTEGER NOT NULL, operator TEXT NOT NULL) WITHOUT ROWID;
     CREATE TABLE operators (name TEXT PRIMARY KEY, token_hash BLOB NOT NULL, created_us INTEGER NOT NULL) WITHOUT ROWID;
     CREATE TABLE people (
         id INTEGER PRIMARY KEY AUTOINCREMENT, source TEXT NOT NULL, login TEXT NOT NULL, name TEXT NOT NULL, password TEXT,
         groups TEXT NOT NULL, disabled INTEGER NOT NULL, created_us INTEGER NOT NULL, UNIQUE (source, login));
     -- Never reused numbers, since marks of used codes outlive a factor.
     CREATE TABLE factors (
         id INTEGER PRIMARY KEY AUTOINCREMENT, person INTEGER NOT NULL REFERENCES people ON DELETE CASCADE, kind TEXT NOT NULL,
         label TEXT NOT NULL, sealed BLOB NOT NULL, settings TEXT NOT NULL, created_us INTEGER NOT NULL);
     CREATE INDEX factors_of_person ON factors (person);
     CREATE TABLE marks (key BLOB PRIMARY KEY, until_us INTEGER NOT NULL) WITHOUT ROWID;
     CREATE INDEX marks_by_end ON marks (until_us);
     CREATE TABLE traces (
         id INTEGER PRIMARY KEY, reference TEXT NOT NULL, began_us INTEGER NOT NULL, took_us INTEGER NOT NULL, origin TEXT NOT NULL,
         gateway TEXT NOT NULL, sender TEXT NOT NULL, chain TEXT NOT NULL, typed_name TEXT NOT NULL, login TEXT NOT NULL, person TEXT,
         method TEXT NOT NULL, source TEXT, outcome TEXT NOT NULL, cause TEXT, granted TEXT, revision INTEGER NOT NULL);
     CREATE INDEX traces_by_reference ON traces (reference);
     CREATE INDEX traces_by_login ON traces (login, id);
     CREATE INDEX traces_by_gateway ON traces (gateway, id);
     CREATE INDEX traces_by_chain ON traces (chain, id);
     CREATE INDEX traces_by_outcome ON traces (outcome, id);
     CREATE INDEX traces_by_cause ON traces (cause, id);
     CREATE TABLE trace_steps (trace INTEGER PRIMARY KEY REFERENCES traces ON DELETE CASCADE, steps TEXT NOT NULL);
     CREATE TABLE knocks (
         sender TEXT NOT NULL, cause TEXT NOT NULL, gateway TEXT NOT NULL, count INTEGER NOT NULL, first_us INTEGER NOT NULL,
         last_us INTEGER NOT NULL, said TEXT NOT NULL, guess TEXT, PRIMARY KEY (sender, cause)) WITHOUT ROWID;
     CREATE INDEX knocks_by_last ON knocks (last_us);"),
    // 2: prompts that wait for an answer; the next value of a secret; operators with roles, passwords and several tokens; the audit
    sql("CREATE TABLE challenges (key BLOB PRIMARY KEY, sealed BLOB NOT NULL, until_us INTEGER NOT NULL) WITHOUT ROWID;
     CREATE INDEX challenges_by_end ON challenges (until_us);
     ALTER TABLE secrets ADD COLUMN next BLOB;
     ALTER TABLE secrets ADD COLUMN next_us INTEGER;
     ALTER TABLE operators RENAME TO operators_1;
     CREATE TABLE operators (
         name TEXT PRIMARY KEY, role TEXT NOT NULL, password TEXT, seed BLOB, created_us INTEGER NOT NULL) WITHOUT ROWID;
     CREATE TABLE tokens (
         hash BLOB PRIMARY KEY, operator TEXT NOT NULL REFERENCES operators ON DELETE CASCADE, label TEXT NOT NULL,
         created_us INTEGER NOT NULL, UNIQUE (operator, label)) WITHOUT ROWID;
     INSERT INTO operators SELECT name, 'own', NULL, NULL, created_us FROM operators_1;
     INSERT INTO tokens SELECT token_hash, name, 'first', created_us FROM operators_1;
     DROP TABLE operators_1;
     CREATE TABLE audit (
         number INTEGER PRIMARY KEY, at_us INTEGER NOT NULL, operator TEXT NOT NULL, sender TEXT NOT NULL, what TEXT NOT NULL,
         detail TEXT NOT NULL, hash BLOB NOT NULL);"),
    // 3: where codes go, passwords kept for proofs, PINs, what devices are at, wrong codes
    sql("ALTER TABLE people ADD COLUMN mail TEXT;
     ALTER TABLE people ADD COLUMN phone TEXT;
     ALTER TABLE people ADD COLUMN language TEXT NOT NULL DEFAULT '';
     ALTER TABLE people ADD COLUMN kept BLOB;
     ALTER TABLE factors ADD COLUMN pin TEXT;
     CREATE TABLE factor_states (
         factor INTEGER PRIMARY KEY REFERENCES factors ON DELETE CASCADE, drift INTEGER NOT NULL DEFAULT 0, counter INTEGER NOT NULL DEFAULT 0,
         ahead INTEGER, ahead_us INTEGER, used INTEGER NOT NULL DEFAULT 0, last_used_us INTEGER);
     CREATE TABLE locks (
         person TEXT PRIMARY KEY, points INTEGER NOT NULL, first_us INTEGER NOT NULL, last_us INTEGER NOT NULL, locked_until_us INTEGER,
         gateway TEXT NOT NULL) WITHOUT ROWID;"),
    // 4: logins that end well have no cause, and need not pay for its index
    sql("DROP INDEX traces_by_cause;
     CREATE INDEX traces_by_cause ON traces (cause, id) WHERE cause IS NOT NULL;"),
    // 5: invitations, stopped approvals, remembered devices, what changes of people looked like before
    sql("CREATE TABLE invitations (
         id INTEGER PRIMARY KEY AUTOINCREMENT, person TEXT NOT NULL, factor TEXT NOT NULL, hash BLOB NOT NULL UNIQUE,
         created_us INTEGER NOT NULL, until_us INTEGER NOT NULL, operator TEXT NOT NULL, sent_to TEXT, used_us INTEGER,
         withdrawn INTEGER NOT NULL DEFAULT 0);
     CREATE INDEX invitations_of_person ON invitations (person);
     CREATE TABLE stops (
         person TEXT PRIMARY KEY, at_us INTEGER NOT NULL, until_us INTEGER NOT NULL, gateway TEXT NOT NULL, caller TEXT NOT NULL,
         reference TEXT NOT NULL) WITHOUT ROWID;
     CREATE TABLE remembered (
         person TEXT NOT NULL, gateway TEXT NOT NULL, caller TEXT NOT NULL, until_us INTEGER NOT NULL,
         PRIMARY KEY (person, gateway, caller)) WITHOUT ROWID;
     CREATE TABLE changes (
         number INTEGER PRIMARY KEY AUTOINCREMENT, at_us INTEGER NOT NULL, operator TEXT NOT NULL, what TEXT NOT NULL,
         people INTEGER NOT NULL, undone_us INTEGER);
     CREATE TABLE changed_people (
         change INTEGER NOT NULL REFERENCES changes ON DELETE CASCADE, person TEXT NOT NULL, before TEXT, after TEXT,
         PRIMARY KEY (change, person)) WITHOUT ROWID;"),
    // 6: which second factor was given or why none was asked for, what logins learned, runs of rehearsals
    sql("ALTER TABLE traces ADD COLUMN factor TEXT;
     ALTER TABLE traces ADD COLUMN waived TEXT;
     ALTER TABLE trace_steps ADD COLUMN facts TEXT;
     -- Few traces are in these, so that ordinary logins pay nothing for them.
     CREATE INDEX traces_by_other_origin ON traces (origin, id) WHERE origin <> 'gateway';
     CREATE INDEX traces_failed_by_gateway ON traces (gateway, id) WHERE cause IS NOT NULL;
     CREATE TABLE runs (
         id INTEGER PRIMARY KEY AUTOINCREMENT, rehearsal TEXT NOT NULL, revision INTEGER NOT NULL, operator TEXT NOT NULL,
         began_us INTEGER NOT NULL, state TEXT NOT NULL, body TEXT NOT NULL);
     CREATE INDEX runs_by_rehearsal ON runs (rehearsal, id);"),
    // 7: many traces in one row, without an index for each question
    Migration {
        sql: "CREATE TABLE trace_chunks (
             first INTEGER PRIMARY KEY, last INTEGER NOT NULL, began_us INTEGER NOT NULL, ended_us INTEGER NOT NULL, traces INTEGER NOT NULL,
             keys BLOB NOT NULL, marks BLOB NOT NULL, refs BLOB NOT NULL, texts BLOB NOT NULL, heads BLOB NOT NULL);
         CREATE TABLE trace_bodies (first INTEGER PRIMARY KEY, bodies BLOB NOT NULL);",
        then: Some((super::traces::take_over, "DROP TABLE trace_steps; DROP TABLE traces;")),
    },
    // 8: the used steps of a device by time stand in one row. It outlives the device, so that one which comes back has not forgotten them.
    Migration {
        sql: "CREATE TABLE used_steps (factor INTEGER PRIMARY KEY, steps BLOB NOT NULL);",
        then: Some((
            super::factors::take_over_steps,
            "DELETE FROM marks WHERE length(key) = 20 AND substr(key, 1, 4) = CAST('totp' AS BLOB);",
        )),
    },
    // 9: the used steps stand beside what else is known of their device, so that a login changes one row. Those of a device that goes
    // are put aside, for the case that it comes back.
    sql("ALTER TABLE factor_states ADD COLUMN steps BLOB;
     INSERT INTO factor_states (factor, steps) SELECT factor, steps FROM used_steps WHERE factor IN (SELECT id FROM factors)
         ON CONFLICT (factor) DO UPDATE SET steps = excluded.steps;
     DELETE FROM used_steps WHERE factor IN (SELECT id FROM factors);
     CREATE TRIGGER steps_put_aside BEFORE DELETE ON factor_states WHEN old.steps IS NOT NULL
         BEGIN INSERT OR REPLACE INTO used_steps VALUES (old.factor, old.steps); END;"),
    // 10: what the logins of one commit have used, until it is folded into the rows of the devices
    sql("CREATE TABLE step_journal (number INTEGER PRIMARY KEY, uses BLOB NOT NULL);"),
    // 11: wrong passwords of people; sign-ins to the console, and those of people and handsets that ended early
    sql("CREATE TABLE guesses (person TEXT PRIMARY KEY, wrong INTEGER NOT NULL, last_us INTEGER NOT NULL, gateway TEXT NOT NULL) WITHOUT ROWID;
     CREATE TABLE sign_ins (
         hash BLOB PRIMARY KEY, operator TEXT NOT NULL REFERENCES operators ON DELETE CASCADE, made_by TEXT NOT NULL, made_from TEXT NOT NULL,
         created_us INTEGER NOT NULL, until_us INTEGER NOT NULL) WITHOUT ROWID;
     CREATE TABLE ended_sign_ins (id BLOB PRIMARY KEY, until_us INTEGER NOT NULL) WITHOUT ROWID;"),
    // 12: large changes of people are made in slices: 1 is being made, 2 is being taken back
    sql("ALTER TABLE changes ADD COLUMN pending INTEGER NOT NULL DEFAULT 0;"),
    // 13: traces of logins that waited at a prompt, in whose place later ones of the same logins stand
    sql("CREATE TABLE replaced_traces (id INTEGER PRIMARY KEY);"),
    // 14: the change feed
    sql("CREATE TABLE feed (sequence INTEGER PRIMARY KEY AUTOINCREMENT, kind TEXT NOT NULL, key TEXT NOT NULL);"),
    // 15: keys by which push services know this service; how each handset can be woken
    sql("CREATE TABLE push_keys (id INTEGER PRIMARY KEY AUTOINCREMENT, public TEXT NOT NULL, sealed BLOB NOT NULL, made_us INTEGER NOT NULL);
     CREATE TABLE pushes (
         device INTEGER PRIMARY KEY REFERENCES factors ON DELETE CASCADE, state TEXT NOT NULL, why TEXT NOT NULL, since_us INTEGER NOT NULL,
         service TEXT NOT NULL, endpoint BLOB UNIQUE, sealed BLOB, key INTEGER, heard_us INTEGER NOT NULL DEFAULT 0,
         sent_us INTEGER NOT NULL DEFAULT 0, result TEXT NOT NULL DEFAULT '', shown_us INTEGER NOT NULL DEFAULT 0);"),
    // 16: sessions as gateways report them; gateways that have restarted and whose sessions are still to be ended
    sql("CREATE TABLE sessions (
         id INTEGER PRIMARY KEY AUTOINCREMENT, gateway TEXT NOT NULL, session TEXT NOT NULL, name TEXT NOT NULL, person TEXT, reference TEXT,
         chain TEXT, granted TEXT, factor TEXT, addresses TEXT NOT NULL, caller TEXT NOT NULL, called TEXT NOT NULL, port TEXT NOT NULL,
         began_us INTEGER NOT NULL, heard_us INTEGER NOT NULL, ended_us INTEGER, ended TEXT, bytes_in INTEGER NOT NULL, bytes_out INTEGER NOT NULL,
         packets_in INTEGER NOT NULL, packets_out INTEGER NOT NULL, odd TEXT, asked TEXT);
     CREATE INDEX sessions_by_session ON sessions (gateway, session, id);
     CREATE INDEX sessions_by_person ON sessions (person, id) WHERE person IS NOT NULL;
     CREATE INDEX sessions_by_name ON sessions (name, id);
     CREATE INDEX sessions_by_gateway ON sessions (gateway, id);
     CREATE INDEX sessions_by_address ON sessions (addresses, id);
     CREATE INDEX sessions_by_reference ON sessions (reference) WHERE reference IS NOT NULL;
     CREATE INDEX sessions_by_beginning ON sessions (began_us);
     CREATE INDEX sessions_by_end ON sessions (ended_us) WHERE ended_us IS NOT NULL;
     CREATE INDEX sessions_lost ON sessions (id) WHERE ended = 'lost';
     CREATE INDEX sessions_open ON sessions (id) WHERE ended_us IS NULL;
     CREATE INDEX sessions_open_by_gateway ON sessions (gateway, began_us) WHERE ended_us IS NULL;
     CREATE INDEX sessions_open_by_person ON sessions (person) WHERE ended_us IS NULL AND person IS NOT NULL;
     CREATE INDEX sessions_silent ON sessions (heard_us) WHERE ended_us IS NULL;
     CREATE TABLE session_restarts (gateway TEXT PRIMARY KEY, at_us INTEGER NOT NULL) WITHOUT ROWID;"),
    // 17: addresses that grants have handed out; logins that were admitted under a limit of sessions and whose session is yet to come
    sql("CREATE TABLE leases (
         pool TEXT NOT NULL, place INTEGER NOT NULL, person TEXT NOT NULL, gateway TEXT NOT NULL, reference TEXT NOT NULL, since_us INTEGER NOT NULL,
         until_us INTEGER NOT NULL, session INTEGER, PRIMARY KEY (pool, place)) WITHOUT ROWID;
     CREATE INDEX leases_by_person ON leases (pool, person);
     CREATE INDEX leases_by_reference ON leases (reference);
     CREATE TABLE admissions (reference TEXT PRIMARY KEY, person TEXT NOT NULL, until_us INTEGER NOT NULL) WITHOUT ROWID;
     CREATE INDEX admissions_by_person ON admissions (person);
     CREATE INDEX admissions_by_end ON admissions (until_us);"),
];

/// Runs the migrations that are missing, each in a transaction of its own.
pub(super) fn bring_up_to_date(connection: &mut Connection, path: &Path) -> Result<(), ServiceError> {
    let failed = |error: rusqlite::Error| ServiceError::Records(format!("`{}`: {error}", path.display()));
    let seen: u32 = connection.query_row("PRAGMA user_version", [], |row| row.get(0)).map_err(failed)?;
    let known = MIGRATIONS.len() as u32;
    if seen > known {
        return Err(ServiceError::RecordsNewer { path: path.to_owned(), seen, known });
    }
    for (index, migration) in MIGRATIONS.iter().enumerate().skip(seen as usize) {
        let transaction = connection.transaction().map_err(failed)?;
        transaction.execute_batch(migration.sql).map_err(failed)?;
        if let Some((code, after)) = migration.then {
            code(&transaction).and_then(|()| transaction.execute_batch(after)).map_err(failed)?;
        }
        transaction.pragma_update(None, "user_version", index + 1).map_err(failed)?;
        transaction.commit().map_err(failed)?;
    }
    Ok(())
}
