//! What stands between a person's handsets and a notification, part by part. Nothing is sent.

use super::{Kept, PushKey, bare_host};
use crate::live::LiveSite;
use crate::roster::seed_purpose;
use crate::shared::Shared;
use bivector_api::push::PushState;
use bivector_push::is_internal;
use bivector_store::records::{DeviceKind, PersonRow, PushRow, RecordsError};
use std::time::Instant;
use tokio::net::{TcpStream, lookup_host};
use tokio::time::timeout;

/// One part: `name`, `connection`, `key`, `subscription` or `last result`.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PushPart {
    /// Which.
    pub part: &'static str,
    /// Whether it is as it should be.
    pub good: bool,
    /// What was seen.
    pub said: String,
}

/// A handset and its parts, up to the first that is not as it should be.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PushLook {
    /// What the person calls the handset.
    pub label: String,
    /// Its parts in order.
    pub parts: Vec<PushPart>,
}

impl PushLook {
    /// Whether a message should arrive.
    pub fn is_good(&self) -> bool {
        self.parts.iter().all(|part| part.good)
    }

    fn note(&mut self, part: &'static str, seen: Result<String, String>) -> bool {
        let good = seen.is_ok();
        self.parts.push(PushPart { part, good, said: seen.unwrap_or_else(|why| why) });
        good
    }

    /// In a sentence.
    pub fn said(&self) -> String {
        self.parts.iter().map(|part| format!("{}: {}", part.part, part.said)).collect::<Vec<_>>().join("; ")
    }
}

/// Looks at the handsets of a person.
///
/// # Errors
/// The records failed.
pub async fn look(shared: &Shared, live: &LiveSite, person: &PersonRow) -> Result<Vec<PushLook>, RecordsError> {
    let handsets = person.factors.iter().filter(|factor| factor.kind == DeviceKind::Handset && factor.settings.waits_for.is_none());
    let rows = shared.pusher.rows(shared, handsets.clone().map(|handset| handset.id).collect()).await?;
    let keys = shared.pusher.keys.all(shared).await?;
    let mut found = Vec::new();
    for handset in handsets {
        let row = rows.iter().find(|row| row.device == handset.id).cloned().unwrap_or_else(|| PushRow::none(handset.id));
        let mut seen = PushLook { label: handset.label.clone(), parts: Vec::new() };
        let sealed = row.sealed.as_ref().and_then(|sealed| {
            let plain = shared.seal.open(&seed_purpose(&person.source, &person.login), sealed).ok()?;
            serde_json::from_slice::<Kept>(plain.expose()).ok()
        });
        let _ = seen.note("subscription", subscription(&row, sealed.is_some()))
            && reach(&mut seen, live, sealed.as_ref()).await
            && seen.note("key", key(&row, &keys))
            && seen.note("last result", last(shared, &row));
        found.push(seen);
    }
    Ok(found)
}

fn subscription(row: &PushRow, opens: bool) -> Result<String, String> {
    match row.state {
        PushState::Ready | PushState::Untested if !opens => Err("it cannot be decrypted with this key file".into()),
        PushState::Ready => Ok(format!("at {}, confirmed by a test", bare_host(&row.service))),
        PushState::Untested => Ok(format!("at {}, but no test was confirmed yet", bare_host(&row.service))),
        PushState::None => Err("the handset has not subscribed; opening its page sets it up".into()),
        PushState::Refused => Err("the person does not allow notifications".into()),
        PushState::Unsupported => Err("the browser cannot receive push messages".into()),
        PushState::Ended if row.why.is_empty() => Err("it has ended".into()),
        PushState::Ended => Err(row.why.clone()),
    }
}

/// Name and connection, of the proxy where there is one.
async fn reach(seen: &mut PushLook, live: &LiveSite, kept: Option<&Kept>) -> bool {
    let push = &live.site.push;
    let Some(kept) = kept else { return false };
    let endpoint = match push.services.endpoint(&kept.endpoint) {
        Ok(endpoint) => endpoint,
        Err(error) => return seen.note("name", Err(error.to_string())),
    };
    let proxy = push.proxy.as_ref().filter(|_| !endpoint.local);
    let target = proxy.map_or(endpoint.origin.as_str(), String::as_str);
    let (host, port) = host_and_port(target);
    let addresses: Vec<_> = match timeout(push.patience, lookup_host((host.as_str(), port))).await {
        Ok(Ok(addresses)) => addresses.collect(),
        Ok(Err(error)) => return seen.note("name", Err(format!("{host}: {error}"))),
        Err(_) => return seen.note("name", Err(format!("{host}: no answer within {} s", push.patience.as_secs()))),
    };
    let public: Vec<_> =
        addresses.iter().filter(|address| endpoint.local || proxy.is_some() || !is_internal(address.ip())).copied().collect();
    let Some(first) = public.first().copied() else {
        return seen.note("name", Err(format!("{host} leads to an address inside the own network")));
    };
    seen.note("name", Ok(format!("{host} is {}", first.ip())));
    let began = Instant::now();
    let through = if proxy.is_some() { "the proxy " } else { "" };
    let connected = match timeout(push.patience, TcpStream::connect(public.as_slice())).await {
        Ok(Ok(_)) => Ok(format!("{through}{host} port {port} accepts connections, in {} ms", began.elapsed().as_millis())),
        Ok(Err(error)) => Err(format!("{through}{host} port {port}: {error}")),
        Err(_) => Err(format!("{through}{host} port {port}: no answer within {} s", push.patience.as_secs())),
    };
    seen.note("connection", connected)
}

/// Host and port of an origin.
fn host_and_port(origin: &str) -> (String, u16) {
    let (scheme, rest) = origin.split_once("://").unwrap_or(("https", origin));
    let usual = if scheme == "http" { 80 } else { 443 };
    match rest.rsplit_once(':') {
        Some((host, port)) if !rest.ends_with(']') => (host.trim_matches(['[', ']']).to_owned(), port.parse().unwrap_or(usual)),
        _ => (rest.trim_matches(['[', ']']).to_owned(), usual),
    }
}

fn key(row: &PushRow, keys: &[PushKey]) -> Result<String, String> {
    match keys.iter().position(|key| key.id == row.key) {
        None => Err("the signing key of this subscription is gone; the phone must open its page".into()),
        Some(0) => Ok("the current signing key".into()),
        Some(_) => Ok("an older signing key, until the phone opens its page".into()),
    }
}

fn last(shared: &Shared, row: &PushRow) -> Result<String, String> {
    if let Some((_, why)) = shared.pusher.gates.closed().into_iter().find(|(service, _)| *service == row.service) {
        return Err(why);
    }
    match row.result.as_str() {
        "" => Ok("no message was sent yet".into()),
        result if result.starts_with("accepted") => Ok(result.to_owned()),
        result => Err(result.to_owned()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn origins_are_taken_apart() {
        assert_eq!(host_and_port("https://push.example.net"), ("push.example.net".into(), 443));
        assert_eq!(host_and_port("http://127.0.0.1:8490"), ("127.0.0.1".into(), 8490));
        assert_eq!(host_and_port("http://[::1]:8490"), ("::1".into(), 8490));
        assert_eq!(host_and_port("https://[::1]"), ("::1".into(), 443));
    }

    #[test]
    fn each_state_of_a_subscription_is_told() {
        let of = |state, opens| subscription(&PushRow { state, service: "https://push.example.net".into(), ..PushRow::none(1) }, opens);
        assert_eq!(of(PushState::Ready, true), Ok("at push.example.net, confirmed by a test".into()));
        assert!(of(PushState::Untested, true).unwrap().ends_with("no test was confirmed yet"));
        for state in [PushState::None, PushState::Refused, PushState::Unsupported, PushState::Ended] {
            assert!(of(state, false).is_err(), "{state:?}");
        }
        assert!(of(PushState::Ready, false).is_err(), "the key file is another one");
    }

    #[test]
    fn a_look_is_good_if_all_its_parts_are() {
        let mut seen = PushLook { label: "phone".into(), parts: Vec::new() };
        assert!(seen.note("name", Ok("push.example.net is 203.0.113.9".into())) && seen.is_good());
        assert!(!seen.note("connection", Err("no answer within 5 s".into())) && !seen.is_good());
        assert_eq!(seen.said(), "name: push.example.net is 203.0.113.9; connection: no answer within 5 s");
    }
}
