//! The methods without a tunnel, as the server carries them out: GTC, MD5-Challenge and MSCHAPv2. Each can stand alone or inside a tunnel.

use crate::server::GivenCredential;
use crate::{Failed, MSK, Msk, Random};
use bivector_wire::eap::{GTC, MD5, MS_CHAP_V2};
use bivector_wire::{MsChapProved, Secret, ms_chap_error};

/// What EAP-GTC asks for first.
const FIRST_PROMPT: &str = "Password: ";
/// Bytes of text that a peer may send.
const LONGEST_TEXT: usize = 1024;

/// How often a person may try another password in one conversation.
const TRIES: u8 = 3;

const CHALLENGE: u8 = 1;
const RESPONSE: u8 = 2;
const SUCCESS: u8 = 3;
const FAILURE: u8 = 4;

/// A method in progress.
#[derive(Debug)]
pub(crate) enum Basic {
    Gtc,
    Md5 { challenge: [u8; 16] },
    MsChapV2(MsChapV2),
}

#[derive(Debug)]
pub(crate) struct MsChapV2 {
    challenge: [u8; 16],
    /// The identifier of the exchange, which success and error repeat.
    identifier: u8,
    told: Told,
    keys: Option<Msk>,
    /// Refusals after which another response was allowed.
    retries: u8,
}

/// How far EAP-MSCHAPv2 is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Told {
    Challenge,
    Success,
    Failure,
    /// The peer may answer a new challenge with another password.
    Again,
}

/// What a response brought.
#[derive(Debug)]
pub(crate) enum Answered {
    /// A credential to be decided.
    Given(GivenCredential),
    /// The result was acknowledged; the method has ended.
    Acknowledged,
}

impl Basic {
    /// Begins a method by its type, if it is one of these.
    pub(crate) fn begin(kind: u8, random: Random<'_>) -> Option<Self> {
        let mut challenge = [0; 16];
        random(&mut challenge);
        Some(match kind {
            GTC => Basic::Gtc,
            MD5 => Basic::Md5 { challenge },
            MS_CHAP_V2 => Basic::MsChapV2(MsChapV2 { challenge, identifier: challenge[0], told: Told::Challenge, keys: None, retries: 0 }),
            _ => return None,
        })
    }

    pub(crate) fn kind(&self) -> u8 {
        match self {
            Basic::Gtc => GTC,
            Basic::Md5 { .. } => MD5,
            Basic::MsChapV2(_) => MS_CHAP_V2,
        }
    }

    /// The data of the first request.
    pub(crate) fn first(&self, server: &str) -> Vec<u8> {
        match self {
            Basic::Gtc => FIRST_PROMPT.as_bytes().to_vec(),
            // RFC 1994 section 4.1: the length of the value, the value, the name.
            Basic::Md5 { challenge } => [&[16][..], challenge, server.as_bytes()].concat(),
            Basic::MsChapV2(method) => method.packet(CHALLENGE, &[&[16][..], &method.challenge, server.as_bytes()].concat()),
        }
    }

    /// Reads a response. `identifier` is that of the EAP packet, which MD5-Challenge hashes.
    pub(crate) fn answer(&mut self, identifier: u8, data: &[u8]) -> Result<Answered, Failed> {
        match self {
            Basic::Gtc if data.len() > LONGEST_TEXT => {
                Err(Failed::malformed(format!("the text has {} bytes; {LONGEST_TEXT} are allowed", data.len())))
            }
            Basic::Gtc => Ok(Answered::Given(GivenCredential::Text(Secret::new(data.to_vec())))),
            Basic::Md5 { challenge } => match data {
                [16, value @ ..] if value.len() >= 16 => {
                    let password = [&[identifier][..], &value[..16]].concat();
                    Ok(Answered::Given(GivenCredential::Chap { password, challenge: challenge.to_vec() }))
                }
                _ => Err(Failed::malformed("the MD5-Challenge response does not hold 16 bytes")),
            },
            Basic::MsChapV2(method) => method.answer(data),
        }
    }

    /// The data of a request for a further text, where the method can ask for one.
    pub(crate) fn ask(&self, prompt: &str) -> Option<Vec<u8>> {
        matches!(self, Basic::Gtc).then(|| prompt.as_bytes().to_vec())
    }

    /// The data of the request that tells the peer of success, where the method has one.
    pub(crate) fn accept(&mut self, proved: Option<&MsChapProved>) -> Option<Vec<u8>> {
        let (Basic::MsChapV2(method), Some(proved)) = (self, proved) else { return None };
        let mut key = [proved.receive_key.expose().as_slice(), proved.send_key.expose()].concat();
        key.resize(MSK, 0);
        method.keys = Some(Secret::new(key));
        method.told = Told::Success;
        let message = [proved.success.get(1..).unwrap_or_default(), b" M=OK"].concat();
        Some(method.packet(SUCCESS, &message))
    }

    /// The data of the request that tells the peer of failure, where the method has one. With `may_retry`, the peer may answer the challenge
    /// in it with another password (RFC 2759 section 6).
    pub(crate) fn refuse(&mut self, message: &str, may_retry: bool, random: Random<'_>) -> Option<Vec<u8>> {
        let Basic::MsChapV2(method) = self else { return None };
        let again = may_retry && method.retries + 1 < TRIES;
        method.told = if again { Told::Again } else { Told::Failure };
        method.retries += 1;
        random(&mut method.challenge);
        let error = ms_chap_error(method.identifier, again, method.challenge, message);
        Some(method.packet(FAILURE, error.get(1..).unwrap_or_default()))
    }

    /// The key of the method, once it has succeeded.
    pub(crate) fn msk(&self) -> Option<Msk> {
        match self {
            Basic::MsChapV2(method) => method.keys.clone(),
            _ => None,
        }
    }
}

impl MsChapV2 {
    /// Operation, identifier and length, then what follows.
    fn packet(&self, operation: u8, rest: &[u8]) -> Vec<u8> {
        let [high, low] = ((rest.len() + 4) as u16).to_be_bytes();
        [&[operation, self.identifier, high, low], rest].concat()
    }

    fn answer(&mut self, data: &[u8]) -> Result<Answered, Failed> {
        let wrong = |said: String| Err(Failed::malformed(format!("EAP-MSCHAPv2: {said}")));
        match (self.told, data) {
            (Told::Challenge | Told::Again, [RESPONSE, identifier, _, _, 49, value @ ..]) if value.len() >= 49 => {
                if self.told == Told::Again {
                    // Peers count on from the refusal in different ways.
                    (self.identifier, self.told) = (*identifier, Told::Challenge);
                }
                if *identifier != self.identifier {
                    return wrong(format!("the response is to challenge {identifier}, and {} was the last", self.identifier));
                }
                let (value, name) = value.split_at(49);
                let mut response = [0; 50];
                response[0] = *identifier;
                response[2..].copy_from_slice(&value[..48]);
                let name = name.to_vec();
                Ok(Answered::Given(GivenCredential::MsChapV2 { response, challenge: self.challenge, name }))
            }
            (Told::Success, [SUCCESS, ..]) | (Told::Failure | Told::Again, [FAILURE, ..]) => Ok(Answered::Acknowledged),
            // The peer does not find our proof right: it knows another password than we do.
            (Told::Success, [FAILURE, ..]) => wrong("the peer rejects the server's own proof of the password".to_owned()),
            (told, [operation, ..]) => wrong(format!("operation {operation} is no answer to {told:?}")),
            (_, []) => wrong("the packet is empty".to_owned()),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use bivector_model::Cause;
    use bivector_wire::{ChapProof, MsChapProof, chap_password, nt_hash};

    fn counting(bytes: &mut [u8]) {
        bytes.iter_mut().enumerate().for_each(|(at, byte)| *byte = at as u8 + 1);
    }

    #[test]
    fn md5_challenge_yields_a_chap_response_to_its_own_challenge() {
        let mut method = Basic::begin(MD5, &mut counting).unwrap();
        let first = method.first("bivector");
        let (challenge, password) = (&first[1..17], b"mussel");
        let digest = chap_password(7, password, challenge);
        let Answered::Given(GivenCredential::Chap { password, challenge }) = method.answer(7, &[&[16], &digest[1..]].concat()).unwrap()
        else {
            panic!("a credential")
        };
        assert!(ChapProof::read(&password, &challenge).unwrap().proves(b"mussel"));
        assert!(method.answer(7, &[15, 1, 2]).is_err());
    }

    #[test]
    fn mschapv2_tells_success_with_its_own_proof_and_yields_a_key() {
        let mut method = Basic::begin(MS_CHAP_V2, &mut counting).unwrap();
        let first = method.first("bivector");
        let challenge: [u8; 16] = first[5..21].try_into().unwrap();
        let (response, _) = MsChapProof::answer(first[1], b"ines", &nt_hash("mussel"), challenge, [9; 16]);
        let data = [&[RESPONSE, first[1], 0, 58, 49], &response[2..], &[0], b"ines"].concat();
        let Answered::Given(GivenCredential::MsChapV2 { response, challenge, name }) = method.answer(1, &data).unwrap() else {
            panic!("a credential")
        };
        let proved = MsChapProof::read(&response, Some(&challenge)).unwrap().proves(&name, &nt_hash("mussel")).unwrap();
        let success = method.accept(Some(&proved)).unwrap();
        assert!(success[0] == SUCCESS && success[4..].starts_with(b"S=") && success.ends_with(b" M=OK"));
        assert!(matches!(method.answer(2, &[SUCCESS]), Ok(Answered::Acknowledged)));
        let key = method.msk().unwrap();
        assert_eq!((key.expose().len(), &key.expose()[..16]), (MSK, proved.receive_key.expose().as_slice()));
    }

    #[test]
    fn mschapv2_lets_another_password_be_tried_as_often_as_it_is_allowed() {
        let mut method = Basic::begin(MS_CHAP_V2, &mut counting).unwrap();
        let respond = |method: &mut Basic, request: &[u8], challenge: [u8; 16], password: &str| {
            let identifier = request[1].wrapping_add(1);
            let (response, _) = MsChapProof::answer(identifier, b"ines", &nt_hash(password), challenge, [9; 16]);
            method.answer(1, &[&[RESPONSE, identifier, 0, 58, 49], &response[2..], &[0], b"ines"].concat())
        };
        let mut next = 100;
        let mut other = |bytes: &mut [u8]| bytes.iter_mut().for_each(|byte| (*byte, next) = (next, next + 1));
        let told = method.refuse("Sign-in refused.", true, &mut other).unwrap();
        let said = String::from_utf8_lossy(&told).into_owned();
        assert!(told[0] == FAILURE && said.contains("E=691 R=1 C=64656667"), "{said}");
        let challenge: [u8; 16] = core::array::from_fn(|at| 100 + at as u8);
        let Answered::Given(GivenCredential::MsChapV2 { response, challenge, name }) =
            respond(&mut method, &told, challenge, "mussel").unwrap()
        else {
            panic!("a credential")
        };
        assert!(MsChapProof::read(&response, Some(&challenge)).unwrap().proves(&name, &nt_hash("mussel")).is_some());
        assert!(String::from_utf8_lossy(&method.refuse("x", true, &mut other).unwrap()).contains("R=1"));
        assert!(String::from_utf8_lossy(&method.refuse("x", true, &mut other).unwrap()).contains("R=0"), "the third one is the last");
        assert!(respond(&mut method, &told, challenge, "mussel").is_err(), "and no further response is read");
        assert!(matches!(method.answer(2, &[FAILURE]), Ok(Answered::Acknowledged)));
    }

    #[test]
    fn mschapv2_refuses_answers_out_of_turn() {
        for (data, said) in [
            (&[SUCCESS][..], "operation 3"),
            (&[], "empty"),
            (&[RESPONSE, 9, 0, 58, 49], "operation 2"),
            (&[&[RESPONSE, 9, 0, 58, 49][..], &[0; 49]].concat(), "challenge 9"),
        ] {
            let mut method = Basic::begin(MS_CHAP_V2, &mut counting).unwrap();
            let error = method.answer(1, data).unwrap_err();
            assert!(error.cause == Cause::EapMalformed && error.said.contains(said), "{}", error.said);
        }
    }
}
