//! How handsets can be woken, as operators and people read it.

use bivector_api::push::{PushState, PushView};
use bivector_engine::push::bare_host;
use bivector_engine::shared::Shared;
use bivector_site::{Site, Wake};
use bivector_store::records::{DeviceKind, PersonRow, PushRow, RecordsError};
use std::collections::HashMap;

/// How handsets can be woken, by record number of the handset.
pub(super) type Pushes = HashMap<u64, PushView>;

/// More handsets than this are read in one go.
const ONE_BY_ONE: usize = 200;

/// Whether any chain wakes people by push.
pub(super) fn is_offered(site: &Site) -> bool {
    site.handset.address.is_some() && site.chains.iter().any(|chain| chain.wake.contains(&Wake::Push))
}

/// How the handsets of these people can be woken; nothing where the site does not wake anybody by push.
pub(super) async fn pushes<'p>(shared: &Shared, people: impl Iterator<Item = &'p PersonRow>) -> Result<Pushes, RecordsError> {
    if !shared.live.load().as_ref().is_some_and(|live| is_offered(&live.site)) {
        return Ok(Pushes::new());
    }
    let of = |person: &'p PersonRow| person.factors.iter().filter(|factor| factor.kind == DeviceKind::Handset).map(|factor| factor.id);
    let devices: Vec<u64> = people.flat_map(of).collect();
    let rows = match devices.len() {
        0 => Vec::new(),
        few if few <= ONE_BY_ONE => shared.pusher.rows(shared, devices.clone()).await?,
        _ => shared.records.all_pushes().await?,
    };
    let mut views: Pushes = rows.iter().map(|row| (row.device, view(row))).collect();
    for device in devices {
        views.entry(device).or_insert_with(|| view(&PushRow::none(device)));
    }
    Ok(views)
}

pub(super) fn view(row: &PushRow) -> PushView {
    let at = |micros: u64| (micros > 0).then_some(micros);
    PushView {
        state: row.state,
        said: said(row),
        service: (!row.service.is_empty() && row.sealed.is_some()).then(|| bare_host(&row.service).to_owned()),
        heard_us: at(row.heard_us),
        sent_us: at(row.sent_us),
        result: (!row.result.is_empty()).then(|| row.result.clone()),
        shown_us: at(row.shown_us),
    }
}

/// What a state means, and what to do about it.
fn said(row: &PushRow) -> String {
    let why = |otherwise: &str| if row.why.is_empty() { otherwise.to_owned() } else { row.why.clone() };
    match row.state {
        PushState::None => "notifications are not set up; the handset page shows how".to_owned(),
        PushState::Untested => "the test notification is not confirmed yet; send a test and have the person tap it".to_owned(),
        PushState::Ready => "notifications work".to_owned(),
        PushState::Refused => {
            format!("{}; the person must allow them in the phone's settings", why("the person does not allow notifications"))
        }
        PushState::Unsupported => {
            format!("{}; the page must be installed, or another browser used", why("this browser cannot receive notifications"))
        }
        PushState::Ended => format!("{}; it subscribes again when the handset page is next opened", why("the subscription has ended")),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_state_says_what_to_do_unless_it_is_ready() {
        let of = |state, why: &str| view(&PushRow { state, why: why.into(), ..PushRow::none(1) }).said;
        assert_eq!(of(PushState::Ready, ""), "notifications work");
        assert_eq!(
            of(PushState::Ended, "the push service no longer knows this phone (410)"),
            "the push service no longer knows this phone (410); it subscribes again when the handset page is next opened"
        );
        for state in PushState::ALL.into_iter().filter(|state| *state != PushState::Ready) {
            assert!(of(state, "").contains(';'), "{state:?} names no remedy");
        }
    }

    #[test]
    fn only_what_is_known_is_told() {
        let empty = view(&PushRow::none(1));
        assert_eq!((empty.service, empty.heard_us, empty.sent_us, empty.result, empty.shown_us), (None, None, None, None, None));
        let row = PushRow { service: "https://push.example.net".into(), sealed: Some(vec![1]), heard_us: 7, ..PushRow::none(1) };
        assert_eq!((view(&row).service.as_deref(), view(&row).heard_us), (Some("push.example.net"), Some(7)));
    }
}
