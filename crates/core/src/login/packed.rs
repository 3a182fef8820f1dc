//! Two fields in one: some VPN programs ask for the password and for the code in two fields of their window and send both in User-Password, as
//! `SCRV1:password:code` with each field in base64. What answers a later prompt comes as `CRV1::state::answer`, in plain text.

use super::request::{Credential, Protocol, Request};
use bivector_site::{Method, PasswordFields, Site};
use bivector_wire::Secret;
use data_encoding::BASE64;
use std::sync::Arc;

/// The two fields of one password field.
#[derive(Debug, Clone, PartialEq, Eq)]
enum Packed {
    /// Both fields, as typed.
    Both { password: Vec<u8>, answer: Vec<u8> },
    /// An answer to a prompt, with the State that it belongs to.
    Answer { state: Vec<u8>, answer: Vec<u8> },
}

/// What a trace calls the form of a password field that was packed, and the format by its name.
pub const PACKED: &str = "SCRV1";

/// The name of the format that a password field is packed in, if it is.
pub(super) fn format_of(text: &[u8]) -> Option<&'static str> {
    [("SCRV1:", PACKED), ("CRV1:", "CRV1")].into_iter().find_map(|(prefix, name)| text.starts_with(prefix.as_bytes()).then_some(name))
}

/// Packs both fields, as such a program does.
pub fn pack(password: &str, answer: &str) -> String {
    format!("{PACKED}:{}:{}", BASE64.encode(password.as_bytes()), BASE64.encode(answer.as_bytes()))
}

/// Takes a packed field apart; `None` where it is not packed.
fn unpack(text: &[u8]) -> Option<Result<Packed, &'static str>> {
    let format = format_of(text)?;
    let rest = text.get(format.len() + 1..).unwrap_or_default();
    Some(match format {
        PACKED => {
            const WRONG: &str = "the field begins as `SCRV1:`, but what follows is not two base64 texts with a colon between them";
            let mut fields = rest.split(|byte| *byte == b':').map(|field| BASE64.decode(field));
            match (fields.next(), fields.next(), fields.next()) {
                (Some(Ok(password)), Some(Ok(answer)), None) => Ok(Packed::Both { password, answer }),
                _ => Err(WRONG),
            }
        }
        _ => {
            const WRONG: &str = "the field begins as `CRV1:`, but it is not `CRV1::state::answer`";
            let parts = rest.strip_prefix(b":").and_then(|rest| {
                let at = rest.windows(2).position(|pair| pair == b"::")?;
                Some((rest.get(..at)?, rest.get(at + 2..)?))
            });
            match parts {
                Some((state, answer)) if !state.is_empty() => Ok(Packed::Answer { state: state.to_vec(), answer: answer.to_vec() }),
                _ => Err(WRONG),
            }
        }
    })
}

impl Request {
    /// Takes the password field apart, if the gateway packs two fields in it.
    pub(super) fn unpacked(self: Arc<Self>, site: &Site) -> Arc<Self> {
        let packs = self.protocol() == Protocol::Radius
            && site.gateways.get(self.context.gateway).is_some_and(|gateway| gateway.fields == PasswordFields::Packed);
        let (Credential::Text(text), None) = (&self.credential, &self.inside) else { return self };
        let Some(packed) = packs.then(|| unpack(text.expose())).flatten() else { return self };
        let mut request = Request::clone(&self);
        match packed {
            // The second field of a request that answers a prompt is the answer.
            Ok(Packed::Both { answer, .. }) if request.state.is_some() => request.credential = Credential::Text(Secret::new(answer)),
            Ok(Packed::Both { password, answer }) => {
                request.credential = Credential::Text(Secret::new(password));
                request.second_field = Some(Secret::new(answer));
            }
            Ok(Packed::Answer { state, answer }) => {
                request.credential = Credential::Text(Secret::new(answer));
                request.state.get_or_insert(state);
            }
            Err(why) => request.credential = Credential::Unreadable(Method::Pap, why.to_owned()),
        }
        Arc::new(request)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn a_plain_password_is_not_packed_and_a_broken_one_says_why() {
        assert_eq!(unpack(b"barnacle123456"), None);
        assert_eq!(format_of(b"SCRV1:"), Some("SCRV1"));
        for (text, named) in [
            ("SCRV1:", "two base64 texts"),
            ("SCRV1:YmFybmFjbGU=", "two base64 texts"),
            ("SCRV1:YmFybmFjbGU=:###", "two base64 texts"),
            ("SCRV1:YmFybmFjbGU=:MTIz:MTIz", "two base64 texts"),
            ("CRV1:", "CRV1::state::answer"),
            ("CRV1::::123456", "CRV1::state::answer"),
            ("CRV1::state", "CRV1::state::answer"),
        ] {
            let why = unpack(text.as_bytes()).and_then(Result::err).unwrap_or_default();
            assert!(why.contains(named), "{text}: {why}");
        }
        let answer = Packed::Answer { state: b"wABC".to_vec(), answer: b"12::34".to_vec() };
        assert_eq!(unpack(b"CRV1::wABC::12::34"), Some(Ok(answer)));
    }

    proptest! {
        #[test]
        fn any_two_texts_that_are_packed_come_out_as_they_went_in(password: String, answer: String) {
            let both = Packed::Both { password: password.clone().into_bytes(), answer: answer.clone().into_bytes() };
            prop_assert_eq!(unpack(pack(&password, &answer).as_bytes()), Some(Ok(both)));
        }

        #[test]
        fn no_bytes_make_it_panic(text: Vec<u8>) {
            let _ = unpack(&text);
            let _ = unpack(&[b"SCRV1:".as_slice(), &text].concat());
            let _ = unpack(&[b"CRV1:".as_slice(), &text].concat());
        }
    }
}
