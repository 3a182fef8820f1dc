use super::*;
use crate::records::{FactorSettings, NewFactor, NewPerson, Sync};
use bivector_api::operators::Role;
use bivector_model::Moment;
use bivector_model::device::CodeKind;

const NOON: Moment = Moment::from_secs(1_800_000_000);

fn ines() -> NewPerson {
    let factor =
        NewFactor { kind: CodeKind::Totp.into(), label: "app".into(), sealed: vec![1], settings: FactorSettings::default(), pin: None };
    NewPerson { login: "ines".into(), source: "tidehall".into(), factor: Some(factor), ..NewPerson::default() }
}

fn person() -> Changed {
    Changed::Person { source: "tidehall".into(), login: "ines".into() }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_write_that_has_returned_is_in_the_feed_and_each_fact_comes_once() {
    let folder = tempfile::tempdir().unwrap();
    let records = Records::open(folder.path(), Sync::Off).unwrap();
    records.keep_people(vec![ines()], NOON).await.unwrap();
    let begun = records.newest_change();
    records.rename_factor(1, "phone".into()).await.unwrap();
    records.rename_factor(1, "telephone".into()).await.unwrap();
    records.rename_factor(77, "nobody's".into()).await.unwrap();
    records.add_operator("vesna".into(), Role::View, NOON).await.unwrap();
    assert!(!records.add_operator("vesna".into(), Role::View, NOON).await.unwrap());
    assert_eq!(records.newest_change(), begun + 3, "what changes nothing is no entry");
    let changes = records.changes_after(begun).await.unwrap();
    assert_eq!(changes, Changes { newest: begun + 3, changed: vec![person(), Changed::Operators], incomplete: false });
    records.close().await;
    let records = Records::open(folder.path(), Sync::Off).unwrap();
    assert_eq!(records.newest_change(), begun + 3, "numbers go on after a restart");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_write_that_fails_is_in_no_feed_and_its_number_is_given_to_the_next() {
    let folder = tempfile::tempdir().unwrap();
    let records = Records::open(folder.path(), Sync::Off).unwrap();
    let before = records.newest_change();
    let feed = Arc::clone(&records.feed);
    let failing = records.write(move |transaction| {
        feed.add(transaction, &Changed::Secrets)?;
        transaction.execute("INSERT INTO no_such_table VALUES (1)", [])
    });
    assert!(failing.await.is_err());
    assert_eq!(records.newest_change(), before);
    records.add_revision("text".into(), "owner".into(), String::new(), NOON).await.unwrap();
    let changes = records.changes_after(before).await.unwrap();
    assert_eq!(changes, Changes { newest: before + 1, changed: vec![Changed::Revision], incomplete: false });
}

#[tokio::test(flavor = "multi_thread")]
async fn a_view_that_lags_too_far_behind_is_told_so() {
    let folder = tempfile::tempdir().unwrap();
    let records = Records::open(folder.path(), Sync::Off).unwrap();
    let begun = records.newest_change();
    let feed = Arc::clone(&records.feed);
    records.write(move |transaction| (0..=KEPT).try_for_each(|_| feed.add(transaction, &Changed::Operators))).await.unwrap();
    let changes = records.changes_after(begun).await.unwrap();
    assert!(changes.incomplete && changes.newest == begun + KEPT + 1, "{changes:?}");
    assert!(!records.changes_after(begun + 1).await.unwrap().incomplete);
    assert!(!records.changes_after(changes.newest).await.unwrap().incomplete, "nothing is missing where nothing was changed");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_could_not_be_applied_comes_again() {
    let folder = tempfile::tempdir().unwrap();
    let records = Records::open(folder.path(), Sync::Off).unwrap();
    let cursor = Cursor::at(records.newest_change());
    records.add_operator("vesna".into(), Role::View, NOON).await.unwrap();
    let failed = cursor.catch_up(&records, async |_| Err(RecordsError("as it is meant to".into()))).await;
    assert!(failed.is_err());
    let mut seen = Vec::new();
    for _ in 0..2 {
        let applied: Result<(), RecordsError> = cursor
            .catch_up(&records, async |changes| {
                seen.push(changes.changed.clone());
                Ok(())
            })
            .await;
        applied.unwrap();
    }
    assert_eq!(seen, [vec![Changed::Operators]]);
}

/// Whatever changes a fact must say so: every public write of one is tried, and a trigger in the file itself notes what it touched.
#[tokio::test(flavor = "multi_thread")]
async fn every_write_of_a_fact_adds_an_entry() {
    let folder = tempfile::tempdir().unwrap();
    let records = Records::open(folder.path(), Sync::Off).unwrap();
    records.keep_people(vec![ines()], NOON).await.unwrap();
    let tables = ["people", "factors", "invitations", "stops", "operators", "tokens", "sign_ins", "secrets", "revisions"];
    let watched: String = tables
        .iter()
        .flat_map(|table| ["INSERT", "UPDATE", "DELETE"].map(|event| (table, event)))
        .map(|(table, event)| {
            format!("CREATE TRIGGER watch_{table}_{event} AFTER {event} ON {table} BEGIN INSERT INTO touched VALUES ('{table}'); END;")
        })
        .collect();
    records.write(move |transaction| transaction.execute_batch(&format!("CREATE TABLE touched (name TEXT); {watched}"))).await.unwrap();
    let mut deeds = tests_of_facts::all();
    assert!(deeds.len() > 20);
    for (name, deed) in deeds.drain(..) {
        let before = records.newest_change();
        deed(records.clone()).await;
        let touched = records
            .write(|transaction| {
                let touched: i64 = transaction.query_row("SELECT count(*) FROM touched", [], |row| row.get(0))?;
                transaction.execute("DELETE FROM touched", [])?;
                Ok(touched)
            })
            .await
            .unwrap();
        assert!(touched > 0, "{name} was meant to change something");
        assert!(records.newest_change() > before, "{name} changed a fact and said nothing");
    }
}

mod tests_of_facts {
    use super::*;
    use crate::records::{Edit, NewInvitation, SignInRow, StopRow, TokenRow};
    use bivector_site::Invited;
    use std::pin::Pin;

    type Deed = Box<dyn FnOnce(Records) -> Pin<Box<dyn Future<Output = ()> + Send>> + Send>;

    fn deed<F: Future<Output = ()> + Send + 'static>(
        name: &'static str,
        deed: impl FnOnce(Records) -> F + Send + 'static,
    ) -> (&'static str, Deed) {
        (name, Box::new(move |records| Box::pin(deed(records))))
    }

    fn invitation(hash: u8) -> NewInvitation {
        NewInvitation {
            person: "tidehall:ines".into(),
            factor: Invited::Approval,
            hash: vec![hash],
            until: NOON.plus(std::time::Duration::from_secs(3600)),
            operator: "owner".into(),
            sent_to: None,
        }
    }

    fn sign_in() -> SignInRow {
        SignInRow {
            hash: vec![4],
            operator: "vesna".into(),
            by: "token t".into(),
            from: "192.0.2.7".into(),
            created_us: 1,
            until_us: 9_000_000_000_000_000,
        }
    }

    fn new_factor(label: &str) -> NewFactor {
        NewFactor { label: label.into(), ..super::ines().factor.unwrap() }
    }

    pub(super) fn all() -> Vec<(&'static str, Deed)> {
        let own = || ("tidehall".to_owned(), "ines".to_owned());
        let mut deeds = operators();
        deeds.extend([
            deed("add_factor", move |records| async move {
                records.add_factor(own().0, own().1, new_factor("second"), NOON).await.unwrap().unwrap();
            }),
            deed("set_settings", |records| async move {
                assert!(records.set_settings(1, FactorSettings { uses: Some(2), ..FactorSettings::default() }).await.unwrap());
            }),
            deed("set_sealed", |records| async move { assert!(records.set_sealed(1, vec![9]).await.unwrap()) }),
            deed("rename_factor", |records| async move { assert!(records.rename_factor(1, "phone".into()).await.unwrap()) }),
            deed("set_pin", |records| async move { assert!(records.set_pin(1, Some("hash".into())).await.unwrap()) }),
            deed("remove_factor", move |records| async move {
                assert!(records.remove_factor(own().0, own().1, 2).await.unwrap());
            }),
            deed("invite", |records| async move { assert!(records.invite(invitation(1), NOON).await.unwrap() > 0) }),
            deed("withdraw_invitations", |records| async move {
                assert_eq!(records.withdraw_invitations("tidehall:ines".into()).await.unwrap(), 1);
            }),
            deed("use_invitation", |records| async move {
                records.invite(invitation(2), NOON).await.unwrap();
                let (_, id) = records.use_invitation(vec![2], new_factor("third"), NOON).await.unwrap();
                id.unwrap();
            }),
            deed("stop", |records| async move {
                let row = StopRow { at_us: 1, until_us: 2, gateway: String::new(), caller: String::new(), reference: String::new() };
                records.stop_approvals("tidehall:ines".into(), row).await.unwrap();
            }),
            deed("forget_devices", |records| async move {
                assert!(records.forget_devices("tidehall:ines".into()).await.unwrap());
            }),
            deed("change_people", |records| async move {
                let mut person = ines();
                person.name = "Inês".into();
                records.change_people("owner".into(), "a name".into(), vec![Edit::Keep(Box::new(person))], NOON).await.unwrap();
            }),
            deed("undo_change", |records| async move {
                records.undo_change(1, NOON).await.unwrap().unwrap();
            }),
            deed("keep_people", |records| async move { records.keep_people(vec![ines()], NOON).await.unwrap() }),
        ]);
        deeds
    }

    fn operators() -> Vec<(&'static str, Deed)> {
        let token = || TokenRow { hash: vec![3], operator: "vesna".into(), label: "t".into() };
        vec![
            deed("add_operator", |records| async move {
                for name in ["owner", "vesna"] {
                    assert!(records.add_operator(name.into(), Role::Own, NOON).await.unwrap());
                }
            }),
            deed("add_token", move |records| async move { assert!(records.add_token(token(), NOON).await.unwrap()) }),
            deed("keep_sign_in", |records| async move { records.keep_sign_in(sign_in()).await.unwrap() }),
            deed("forget_sign_ins", |records| async move { records.forget_sign_ins(vec![vec![4]]).await.unwrap() }),
            deed("drop_token", |records| async move { assert!(records.drop_token("vesna".into(), "t".into()).await.unwrap()) }),
            deed("set_sign_in", |records| async move {
                records.set_sign_in("vesna".into(), "hash".into(), vec![1]).await.unwrap();
            }),
            deed("change_operator", |records| async move {
                assert!(records.change_operator("vesna".into(), None).await.unwrap());
            }),
            deed("set_secret", |records| async move { records.set_secret("s".into(), vec![1], "owner".into(), NOON).await.unwrap() }),
            deed("set_next_secret", |records| async move {
                assert!(records.set_next_secret("s".into(), vec![2], NOON).await.unwrap());
            }),
            deed("retire_secret", |records| async move {
                assert!(records.retire_secret("s".into(), "owner".into(), NOON).await.unwrap());
            }),
            deed("forget_secret", |records| async move { assert!(records.forget_secret("s".into()).await.unwrap()) }),
            deed("add_revision", |records| async move {
                records.add_revision("text".into(), "owner".into(), String::new(), NOON).await.unwrap();
            }),
        ]
    }
}
