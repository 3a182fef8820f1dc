//! Inside PEAP version 0: an EAP method without its headers, then the result, with cryptobinding where the peer supports it
//! ([MS-PEAP] sections 2.2.8 and 3.1.5.5).

use crate::inner::{InnerEap, InnerTurn};
use crate::tls::Tunnel;
use crate::tunneled::TunneledTurn;
use crate::{Failed, MSK, Msk, Random};
use bivector_model::trace::Tone;
use bivector_wire::eap::{self, EXTENSIONS, EapPacket, Half, IDENTITY, Inner, PEAP};
use bivector_wire::{MsChapProved, Secret};
use hmac::{Hmac, KeyInit, Mac};
use rustls::pki_types::CertificateDer;
use sha1::Sha1;

/// Result; mandatory.
const RESULT: u16 = 0x8003;
/// Cryptobinding.
const BINDING: u16 = 12;
/// Bytes of a cryptobinding value: reserved, version, received version, subtype, nonce, MAC.
const BINDING_LENGTH: usize = 56;
const MAC: usize = 20;
const REQUEST: u8 = 0;
const RESPONSE: u8 = 1;

/// The server's side inside PEAP.
#[derive(Debug)]
pub(crate) struct Peap {
    inner: InnerEap,
    stage: Stage,
    accepted: bool,
    binding: Option<Binding>,
    msk: Option<Msk>,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Stage {
    /// The inner method goes on.
    Inner,
    /// The peer was told the inner method's own result.
    Told,
    /// The peer was told the result of PEAP.
    Result,
}

/// The keys that bind the inner method to the tunnel.
#[derive(Debug)]
pub(crate) struct Binding {
    nonce: [u8; 32],
    intermediate: Secret<Vec<u8>>,
    mac_key: Secret<Vec<u8>>,
}

impl Binding {
    /// From the tunnel's key material and the inner method's session key of 32 bytes.
    pub(crate) fn new(tunnel: &Tunnel, session: &[u8], nonce: [u8; 32]) -> Option<Self> {
        // The exporter of TLS 1.3 gives other bytes for another length.
        let key = tunnel.key_material(PEAP, 128)?;
        let both = prf_plus(key.get(..40)?, b"Inner Methods Compound Keys", session.get(..32)?, 60);
        let (intermediate, mac_key) = both.split_at(40);
        Some(Binding { nonce, intermediate: Secret::new(intermediate.to_vec()), mac_key: Secret::new(mac_key.to_vec()) })
    }

    /// The value of a cryptobinding of either side.
    pub(crate) fn value(&self, subtype: u8) -> Vec<u8> {
        let mut value = vec![0, 0, 0, subtype];
        value.extend(self.nonce);
        let mac = self.mac(subtype, &self.nonce);
        value.extend(mac);
        value
    }

    fn mac(&self, subtype: u8, nonce: &[u8]) -> [u8; MAC] {
        sha1(self.mac_key.expose(), &[&bound(&[0, 0, 0, subtype], nonce)])
    }

    /// Whether the other side's value was made with the same keys.
    pub(crate) fn fits(&self, value: &[u8], subtype: u8) -> bool {
        let (Some(nonce), Some(mac)) = (value.get(4..36), value.get(36..56)) else { return false };
        let over = bound(&value[..4], nonce);
        let Ok(hmac) = Hmac::<Sha1>::new_from_slice(self.mac_key.expose()) else { return false };
        value[3] == subtype && hmac.chain_update(&over).verify_slice(mac).is_ok()
    }

    /// The key of PEAP with cryptobinding.
    pub(crate) fn msk(&self) -> Msk {
        let mut key = prf_plus(self.intermediate.expose(), b"Session Key Generating Function", &[0], 128);
        key.truncate(MSK);
        Secret::new(key)
    }
}

impl Peap {
    pub(crate) fn new(inner: InnerEap) -> Self {
        Peap { inner, stage: Stage::Inner, accepted: false, binding: None, msk: None }
    }

    /// Asks for the inner identity. Headers are left out inside PEAP version 0.
    pub(crate) fn first(&self) -> Vec<u8> {
        vec![IDENTITY]
    }

    pub(crate) fn receive(&mut self, clear: &[u8], tunnel: &Tunnel, random: Random<'_>) -> Result<TunneledTurn, Failed> {
        if self.stage == Stage::Result {
            return self.result(clear);
        }
        let Some((kind, data)) = clear.split_first() else { return Err(Failed::malformed("inside PEAP: an empty message came")) };
        Ok(match self.inner.answer(*kind, 0, data, random)? {
            InnerTurn::Ask(kind, data) => TunneledTurn::Send([&[kind], data.as_slice()].concat()),
            InnerTurn::Acknowledged => {
                self.bind(tunnel, random);
                TunneledTurn::Send(self.tell_result())
            }
            InnerTurn::Given(kind, credential) => {
                self.stage = Stage::Inner;
                // EAP-TLS has its key before its result is told; it may end without a further packet.
                self.bind(tunnel, random);
                TunneledTurn::Given { inner: Inner::Eap(kind), name: self.inner.name.clone(), credential }
            }
        })
    }

    /// Binds the inner method's key to the tunnel, once it has one.
    fn bind(&mut self, tunnel: &Tunnel, random: Random<'_>) {
        if let Some(session) = self.inner.msk() {
            let mut nonce = [0; 32];
            random(&mut nonce);
            self.binding = Binding::new(tunnel, session.expose(), nonce);
        }
    }

    /// The certificates that the peer has shown to the method inside.
    pub(crate) fn certificates(&self) -> Vec<CertificateDer<'static>> {
        self.inner.certificates()
    }

    /// Why the method inside has failed, once the peer was sent an alert.
    pub(crate) fn failure(&self) -> Option<&Failed> {
        self.inner.failure()
    }

    /// What the method inside has seen.
    pub(crate) fn take_notes(&mut self) -> Vec<(Tone, String)> {
        self.inner.take_notes()
    }

    /// The peer's own result.
    fn result(&mut self, clear: &[u8]) -> Result<TunneledTurn, Failed> {
        let packet = EapPacket::parse(clear).ok().filter(|packet| packet.half == Half::Response && packet.kind == EXTENSIONS);
        let Some(packet) = packet else { return Err(Failed::malformed("inside PEAP: the result was not acknowledged")) };
        let values = tlvs(packet.data);
        let status = values.iter().find(|(kind, _)| kind & 0x3fff == RESULT & 0x3fff).map(|(_, value)| *value);
        if self.accepted && status != Some(&[0, 1]) {
            return Err(Failed::malformed("inside PEAP: the peer does not confirm the success"));
        }
        let bound = values.iter().find(|(kind, _)| kind & 0x3fff == BINDING).map(|(_, value)| *value);
        match (&self.binding, bound) {
            (Some(binding), Some(value)) if binding.fits(value, RESPONSE) => self.msk = Some(binding.msk()),
            (Some(_), Some(_)) => {
                return Err(Failed::malformed("inside PEAP: the cryptobinding of the peer is wrong: somebody else ends the tunnel"));
            }
            _ => {}
        }
        Ok(TunneledTurn::Over)
    }

    fn tell_result(&mut self) -> Vec<u8> {
        self.stage = Stage::Result;
        let mut data = tlv(RESULT, &[0, if self.accepted { 1 } else { 2 }]);
        if let Some(binding) = self.binding.as_ref().filter(|_| self.accepted) {
            data.extend(tlv(BINDING, &binding.value(REQUEST)));
        }
        eap::request(self.inner.next_identifier(), EXTENSIONS, &data)
    }

    pub(crate) fn ask(&mut self, prompt: &str) -> Option<Vec<u8>> {
        let (kind, data) = self.inner.ask(prompt)?;
        Some([&[kind], data.as_slice()].concat())
    }

    pub(crate) fn accept(&mut self, proved: Option<&MsChapProved>) -> Option<Vec<u8>> {
        self.accepted = true;
        self.end_inner(|inner| inner.accept(proved))
    }

    pub(crate) fn refuse(&mut self, message: &str, may_retry: bool, random: Random<'_>) -> Option<Vec<u8>> {
        self.accepted = false;
        self.end_inner(|inner| inner.refuse(message, may_retry, random))
    }

    fn end_inner(&mut self, end: impl FnOnce(&mut InnerEap) -> Option<(u8, Vec<u8>)>) -> Option<Vec<u8>> {
        match end(&mut self.inner) {
            Some((kind, data)) => {
                self.stage = Stage::Told;
                Some([&[kind], data.as_slice()].concat())
            }
            None => Some(self.tell_result()),
        }
    }

    /// The key with cryptobinding; none where the tunnel's own counts.
    pub(crate) fn msk(&self) -> Option<Msk> {
        self.msk.clone()
    }
}

/// What the MAC is made over: the value with zeros in the MAC's own place, and the type of PEAP.
fn bound(head: &[u8], nonce: &[u8]) -> Vec<u8> {
    let length = (BINDING_LENGTH as u16).to_be_bytes();
    [&BINDING.to_be_bytes()[..], &length, head, nonce, &[0; MAC], &[PEAP]].concat()
}

pub(crate) fn tlv(kind: u16, value: &[u8]) -> Vec<u8> {
    [&kind.to_be_bytes()[..], &(value.len() as u16).to_be_bytes(), value].concat()
}

/// Types and values; what is cut short is left out.
pub(crate) fn tlvs(mut data: &[u8]) -> Vec<(u16, &[u8])> {
    let mut all = Vec::new();
    while let [k0, k1, l0, l1, rest @ ..] = data {
        let length = usize::from(u16::from_be_bytes([*l0, *l1]));
        let Some(value) = rest.get(..length) else { break };
        all.push((u16::from_be_bytes([*k0, *k1]), value));
        data = &rest[length..];
    }
    all
}

fn sha1(key: &[u8], parts: &[&[u8]]) -> [u8; MAC] {
    // HMAC takes a key of any length.
    let Ok(mut hmac) = Hmac::<Sha1>::new_from_slice(key) else { return [0; MAC] };
    parts.iter().for_each(|part| hmac.update(part));
    hmac.finalize().into_bytes().into()
}

/// PRF+ of [MS-PEAP] section 3.1.5.5.2.
fn prf_plus(key: &[u8], label: &[u8], seed: &[u8], length: usize) -> Vec<u8> {
    let mut out: Vec<u8> = Vec::new();
    let mut last: Vec<u8> = Vec::new();
    for counter in 1..=u8::MAX {
        if out.len() >= length {
            break;
        }
        last = sha1(key, &[&last, label, seed, &[counter, 0, 0]]).to_vec();
        out.extend(&last);
    }
    out.truncate(length);
    out
}

/// What a peer answers to the server's cryptobinding.
pub(crate) fn answer_binding(tunnel: &Tunnel, session: &[u8], value: &[u8]) -> Option<(Vec<u8>, Msk)> {
    let nonce = value.get(4..36)?.try_into().ok()?;
    let binding = Binding::new(tunnel, session, nonce)?;
    binding.fits(value, REQUEST).then(|| (tlv(BINDING, &binding.value(RESPONSE)), binding.msk()))
}

/// The result and the cryptobinding in the server's packet.
pub(crate) fn read_result(data: &[u8]) -> (bool, Option<&[u8]>) {
    let values = tlvs(data);
    let find = |wanted: u16| values.iter().find(|(kind, _)| kind & 0x3fff == wanted & 0x3fff).map(|(_, value)| *value);
    (find(RESULT) == Some(&[0, 1]), find(BINDING))
}

/// What a peer answers to a result.
pub(crate) fn answer_result(good: bool, binding: Option<Vec<u8>>) -> Vec<u8> {
    let mut data = tlv(RESULT, &[0, if good { 1 } else { 2 }]);
    data.extend(binding.unwrap_or_default());
    data
}
