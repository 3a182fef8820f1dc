//! Inside EAP-TTLS: attributes with a password, a response, or another EAP method (RFC 5281 section 11).

use crate::inner::{InnerEap, InnerTurn};
use crate::server::GivenCredential;
use crate::tls::Tunnel;
use crate::tunneled::TunneledTurn;
use crate::{Failed, Random};
use bivector_model::Cause;
use bivector_wire::eap::avp::{
    self, Avp, CHAP_CHALLENGE, CHAP_PASSWORD, EAP_MESSAGE, REPLY_MESSAGE, USER_NAME, USER_PASSWORD, password, read_all,
};
use bivector_wire::eap::{self, EapPacket, Half, Inner};
use bivector_wire::{MICROSOFT, MS_CHAP_CHALLENGE, MS_CHAP_ERROR, MS_CHAP2_RESPONSE, MS_CHAP2_SUCCESS, MsChapProved, ms_chap_error};

/// The server's side inside EAP-TTLS.
#[derive(Debug)]
pub(crate) struct Ttls {
    inner: InnerEap,
    /// How the credential came.
    used: Option<Inner>,
    /// The identifier of an MS-CHAPv2 response.
    identifier: u8,
}

impl Ttls {
    pub(crate) fn new(inner: InnerEap) -> Self {
        Ttls { inner, used: None, identifier: 0 }
    }

    pub(crate) fn receive(&mut self, clear: &[u8], tunnel: &Tunnel, random: Random<'_>) -> Result<TunneledTurn, Failed> {
        let avps = read_all(clear).map_err(|error| Failed::malformed(format!("inside EAP-TTLS: {error}")))?;
        let find = |code, vendor| avps.iter().find(|avp| (avp.code, avp.vendor) == (code, vendor)).map(|avp| avp.value);
        if let Some(unknown) = avps.iter().find(|avp| avp.mandatory && !is_known(avp)) {
            let said = format!(
                "inside EAP-TTLS: attribute {} of vendor {} is marked as mandatory and is not known here",
                unknown.code, unknown.vendor
            );
            return Err(Failed::malformed(said));
        }
        if let Some(message) = find(EAP_MESSAGE, 0) {
            return self.eap(message, random);
        }
        if self.used.is_some() {
            return Err(Failed::malformed("inside EAP-TTLS: a second credential came"));
        }
        let name = find(USER_NAME, 0).map(<[u8]>::to_vec);
        let (inner, credential) = match (find(USER_PASSWORD, 0), find(CHAP_PASSWORD, 0), find(u32::from(MS_CHAP2_RESPONSE), MICROSOFT)) {
            (Some(value), None, None) => (Inner::Pap, GivenCredential::Text(password(value))),
            (None, Some(value), None) => (Inner::Chap, chap(value, find(CHAP_CHALLENGE, 0), tunnel)?),
            (None, None, Some(value)) => {
                self.identifier = value.first().copied().unwrap_or_default();
                (Inner::MsChapV2, ms_chap(value, find(u32::from(MS_CHAP_CHALLENGE), MICROSOFT), tunnel)?)
            }
            (None, None, None) => {
                return Err(Failed::new(Cause::CredentialMissing, "inside EAP-TTLS: no password or other credential came"));
            }
            _ => return Err(Failed::new(Cause::CredentialSeveral, "inside EAP-TTLS: more than one credential came")),
        };
        self.used = Some(inner);
        Ok(TunneledTurn::Given { inner, name, credential })
    }

    fn eap(&mut self, message: &[u8], random: Random<'_>) -> Result<TunneledTurn, Failed> {
        let packet = match EapPacket::parse(message) {
            Ok(packet) if packet.half == Half::Response => packet,
            Ok(_) => return Err(Failed::malformed("inside EAP-TTLS: the peer sent a request")),
            Err(error) => return Err(Failed::malformed(format!("inside EAP-TTLS: {error}"))),
        };
        Ok(match self.inner.answer(packet.kind, packet.identifier, packet.data, random)? {
            InnerTurn::Ask(kind, data) => TunneledTurn::Send(self.wrap(kind, &data)),
            InnerTurn::Acknowledged => TunneledTurn::Over,
            InnerTurn::Given(kind, credential) => {
                self.used = Some(Inner::Eap(kind));
                TunneledTurn::Given { inner: Inner::Eap(kind), name: self.inner.name.clone(), credential }
            }
        })
    }

    /// A request of the inner method, as an attribute.
    fn wrap(&mut self, kind: u8, data: &[u8]) -> Vec<u8> {
        let mut body = Vec::new();
        avp::push(&mut body, EAP_MESSAGE, 0, &eap::request(self.inner.next_identifier(), kind, data));
        body
    }

    pub(crate) fn ask(&mut self, prompt: &str) -> Option<Vec<u8>> {
        let (kind, data) = self.inner.ask(prompt)?;
        Some(self.wrap(kind, &data))
    }

    pub(crate) fn accept(&mut self, proved: Option<&MsChapProved>) -> Option<Vec<u8>> {
        if let (Some(Inner::MsChapV2), Some(proved)) = (self.used, proved) {
            let mut body = Vec::new();
            avp::push(&mut body, u32::from(MS_CHAP2_SUCCESS), MICROSOFT, &proved.success);
            return Some(body);
        }
        let (kind, data) = self.inner.accept(proved)?;
        Some(self.wrap(kind, &data))
    }

    pub(crate) fn refuse(&mut self, message: &str, may_retry: bool, random: Random<'_>) -> Option<Vec<u8>> {
        match self.used {
            Some(Inner::MsChapV2) => {
                let mut body = Vec::new();
                avp::push(&mut body, u32::from(MS_CHAP_ERROR), MICROSOFT, &ms_chap_error(self.identifier, false, [0; 16], message));
                Some(body)
            }
            _ => {
                let (kind, data) = self.inner.refuse(message, may_retry, random)?;
                Some(self.wrap(kind, &data))
            }
        }
    }

    /// Whether the peer acknowledges the result with an empty packet (RFC 5281 section 11.2.4).
    pub(crate) fn ends_without_answer(&self) -> bool {
        self.used == Some(Inner::MsChapV2)
    }
}

fn is_known(avp: &Avp<'_>) -> bool {
    match avp.vendor {
        0 => [USER_NAME, USER_PASSWORD, CHAP_PASSWORD, CHAP_CHALLENGE, EAP_MESSAGE, REPLY_MESSAGE].contains(&avp.code),
        MICROSOFT => true,
        _ => false,
    }
}

/// The challenge is known to both sides from the tunnel, so that nobody can choose one (RFC 5281 section 11.2.2).
fn chap(value: &[u8], challenge: Option<&[u8]>, tunnel: &Tunnel) -> Result<GivenCredential, Failed> {
    let expected = tunnel.challenge(17).unwrap_or_default();
    let same = challenge == expected.get(..16) && value.first() == expected.get(16);
    match same && value.len() == 17 {
        true => Ok(GivenCredential::Chap { password: value.to_vec(), challenge: expected[..16].to_vec() }),
        false => Err(Failed::malformed("inside EAP-TTLS: the CHAP response is not for the challenge of this tunnel")),
    }
}

/// As for CHAP (RFC 5281 section 11.2.4).
fn ms_chap(value: &[u8], challenge: Option<&[u8]>, tunnel: &Tunnel) -> Result<GivenCredential, Failed> {
    let expected = tunnel.challenge(17).unwrap_or_default();
    let same = challenge == expected.get(..16) && value.first() == expected.get(16);
    let own = expected.first_chunk::<16>().copied();
    match (<[u8; 50]>::try_from(value), own, same) {
        (Ok(response), Some(challenge), true) => Ok(GivenCredential::MsChapV2 { response, challenge, name: Vec::new() }),
        _ => Err(Failed::malformed("inside EAP-TTLS: the MS-CHAPv2 response is not for the challenge of this tunnel")),
    }
}
