//! An EAP method inside a tunnel: identity, negotiation, and one of the basic methods or EAP-TLS.

use crate::basic::{Answered, Basic};
use crate::server::{GivenCredential, Settings, identity_in};
use crate::tunneled::{Tunneled, TunneledTurn};
use crate::{Failed, Msk, Random};
use bivector_model::Cause;
use bivector_model::trace::Tone;
use bivector_wire::MsChapProved;
use bivector_wire::eap::{self, IDENTITY, Inner, NAK, TLS};
use rustls::pki_types::CertificateDer;
use std::sync::Arc;

/// The method inside.
#[derive(Debug)]
pub(crate) struct InnerEap {
    settings: Arc<Settings>,
    /// The types that may still be offered, preferred first.
    types: Vec<u8>,
    running: Option<Running>,
    /// Whether the method has only been offered.
    offered: bool,
    pub(crate) name: Option<Vec<u8>>,
    identifier: u8,
}

#[derive(Debug)]
enum Running {
    Basic(Basic),
    Tls(Box<Tunneled>),
}

/// What a response of the inner method brought.
#[derive(Debug)]
pub(crate) enum InnerTurn {
    /// Send a request of this type.
    Ask(u8, Vec<u8>),
    Given(u8, GivenCredential),
    Acknowledged,
}

impl InnerEap {
    /// Inside the tunnel of `outer`, whose inner methods are those of the chain.
    pub(crate) fn new(outer: u8, settings: &Arc<Settings>) -> Self {
        let inners = settings.methods.iter().filter(|method| method.outer() == outer).map(|method| method.inner());
        let types = inners.filter_map(|inner| if let Inner::Eap(kind) = inner { Some(kind) } else { None }).collect();
        InnerEap { settings: Arc::clone(settings), types, running: None, offered: false, name: None, identifier: 0 }
    }

    /// The identifier of the next request.
    pub(crate) fn next_identifier(&mut self) -> u8 {
        self.identifier = self.identifier.wrapping_add(1);
        self.identifier
    }

    pub(crate) fn answer(&mut self, kind: u8, identifier: u8, data: &[u8], random: Random<'_>) -> Result<InnerTurn, Failed> {
        match (&mut self.running, kind) {
            (None, IDENTITY) => {
                self.identifier = identifier;
                self.name = Some(identity_in(data).to_vec());
                self.offer(|_| true, random)
            }
            (Some(running), NAK) if self.offered => {
                let refused = running.kind();
                self.types.retain(|kind| *kind != refused);
                self.offer(|kind| data.contains(&kind), random)
            }
            (Some(running), kind) if kind == running.kind() => {
                self.offered = false;
                running.answer(identifier, data, random)
            }
            (_, kind) => Err(Failed::malformed(format!("inside the tunnel: {} was not expected", eap::shown(kind)))),
        }
    }

    fn offer(&mut self, wanted: impl Fn(u8) -> bool, random: Random<'_>) -> Result<InnerTurn, Failed> {
        let next = self.types.iter().copied().find(|kind| wanted(*kind));
        let Some(running) = next.and_then(|kind| Running::begin(kind, &self.settings, random)) else {
            let ours: Vec<String> = self.types.iter().map(|kind| eap::shown(*kind)).collect();
            let ours = if ours.is_empty() { "none".to_owned() } else { ours.join(", ") };
            let said = format!("inside the tunnel, the peer wants an EAP method that the chain does not accept; methods left: {ours}");
            return Err(Failed::new(Cause::MethodNotInChain, said));
        };
        let (kind, first) = (running.kind(), running.first(&self.settings.server));
        (self.running, self.offered) = (Some(running), true);
        Ok(InnerTurn::Ask(kind, first))
    }

    pub(crate) fn ask(&self, prompt: &str) -> Option<(u8, Vec<u8>)> {
        match self.running.as_ref()? {
            Running::Basic(basic) => Some((basic.kind(), basic.ask(prompt)?)),
            Running::Tls(_) => None,
        }
    }

    pub(crate) fn accept(&mut self, proved: Option<&MsChapProved>) -> Option<(u8, Vec<u8>)> {
        match self.running.as_mut()? {
            Running::Basic(basic) => Some((basic.kind(), basic.accept(proved)?)),
            Running::Tls(tls) => Some((TLS, tls.accept(proved)?)),
        }
    }

    pub(crate) fn refuse(&mut self, message: &str, may_retry: bool, random: Random<'_>) -> Option<(u8, Vec<u8>)> {
        match self.running.as_mut()? {
            Running::Basic(basic) => Some((basic.kind(), basic.refuse(message, may_retry, random)?)),
            Running::Tls(tls) => Some((TLS, tls.refuse(message, may_retry, random)?)),
        }
    }

    pub(crate) fn msk(&self) -> Option<Msk> {
        match self.running.as_ref()? {
            Running::Basic(basic) => basic.msk(),
            Running::Tls(tls) => tls.msk(),
        }
    }

    /// The certificate chain that the peer has proved to own inside, leaf first.
    pub(crate) fn certificates(&self) -> Vec<CertificateDer<'static>> {
        match &self.running {
            Some(Running::Tls(tls)) => tls.certificates(),
            _ => Vec::new(),
        }
    }

    /// Why it has failed, once the peer was sent an alert.
    pub(crate) fn failure(&self) -> Option<&Failed> {
        match &self.running {
            Some(Running::Tls(tls)) => tls.failure(),
            _ => None,
        }
    }

    /// What was seen inside, for the trace.
    pub(crate) fn take_notes(&mut self) -> Vec<(Tone, String)> {
        match &mut self.running {
            Some(Running::Tls(tls)) => {
                tls.take_notes().into_iter().map(|(tone, said)| (tone, format!("inside the tunnel: {said}"))).collect()
            }
            _ => Vec::new(),
        }
    }
}

impl Running {
    fn begin(kind: u8, settings: &Arc<Settings>, random: Random<'_>) -> Option<Self> {
        match kind {
            TLS => Tunneled::begin_inside(settings).map(|tls| Running::Tls(Box::new(tls))),
            kind => Basic::begin(kind, random).map(Running::Basic),
        }
    }

    fn kind(&self) -> u8 {
        match self {
            Running::Basic(basic) => basic.kind(),
            Running::Tls(_) => TLS,
        }
    }

    fn first(&self, server: &str) -> Vec<u8> {
        match self {
            Running::Basic(basic) => basic.first(server),
            Running::Tls(tls) => tls.first(),
        }
    }

    fn answer(&mut self, identifier: u8, data: &[u8], random: Random<'_>) -> Result<InnerTurn, Failed> {
        Ok(match self {
            Running::Basic(basic) => match basic.answer(identifier, data)? {
                Answered::Given(credential) => InnerTurn::Given(basic.kind(), credential),
                Answered::Acknowledged => InnerTurn::Acknowledged,
            },
            Running::Tls(tls) => match tls.receive(data, random)? {
                TunneledTurn::Send(data) => InnerTurn::Ask(TLS, data),
                TunneledTurn::Given { credential, .. } => InnerTurn::Given(TLS, credential),
                TunneledTurn::Over => InnerTurn::Acknowledged,
            },
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use bivector_wire::eap::{EapMethod, GTC, MS_CHAP_V2, PEAP};
    use proptest::prelude::*;

    fn inside(methods: &[EapMethod]) -> InnerEap {
        let settings = Settings {
            methods: methods.to_vec(),
            tls: None,
            certificate: String::new(),
            asks_certificate: false,
            fragment: 1000,
            server: "bivector".into(),
            sessions: None,
        };
        InnerEap::new(PEAP, &Arc::new(settings))
    }

    proptest! {
        #[test]
        fn a_peer_that_never_ends_the_method_inside_is_asked_once_for_each_method(
            packets in proptest::collection::vec((prop_oneof![Just(IDENTITY), Just(NAK), Just(GTC), Just(MS_CHAP_V2), any::<u8>()], proptest::collection::vec(any::<u8>(), 0..60)), 0..200)
        ) {
            let mut inside = inside(&[EapMethod::PeapMsChapV2, EapMethod::PeapGtc]);
            let mut asked = 0;
            for (kind, data) in packets {
                match inside.answer(kind, 1, &data, &mut |bytes| bytes.fill(7)) {
                    Ok(InnerTurn::Ask(..)) => asked += 1,
                    Ok(InnerTurn::Given(..) | InnerTurn::Acknowledged) | Err(_) => break,
                }
            }
            prop_assert!(asked <= 2, "{asked}");
        }
    }
}
