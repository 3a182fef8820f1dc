//! What a person's device can send inside EAP.

use bivector_eap::{Conversation, Settings, Turn};
use bivector_model::moment::Moment;
use bivector_wire::eap::{self, EapMethod, EapPacket, avp};
use bolero::check;
use std::sync::Arc;

fn fill(bytes: &mut [u8]) {
    bytes.iter_mut().zip(1..).for_each(|(byte, next)| *byte = next);
}

#[test]
fn packets() {
    check!().for_each(|bytes| {
        if let Ok(packet) = EapPacket::parse(bytes) {
            assert!(packet.data.len() + 5 <= bytes.len());
        }
        eap::wanted(bytes);
        let _ = Conversation::identity_of(bytes);
    });
}

#[test]
fn attributes_of_ttls() {
    check!().for_each(|bytes| {
        if let Ok(all) = avp::read_all(bytes) {
            let mut again = Vec::new();
            all.iter().for_each(|one| avp::push(&mut again, one.code, one.vendor, one.value));
            assert_eq!(avp::read_all(&again).map(|again| again.len()), Ok(all.len()));
        }
    });
}

/// Made anew for each input: what TLS holds is not safe to share over a panic.
fn settings() -> Arc<Settings> {
    Arc::new(Settings {
        methods: vec![EapMethod::Gtc, EapMethod::Md5, EapMethod::MsChapV2],
        tls: None,
        certificate: String::new(),
        asks_certificate: false,
        fragment: 1000,
        server: "bivector".into(),
        sessions: None,
    })
}

/// Each piece of the input is one response: whether it fits the method, how long it is, and its data.
#[test]
fn conversations() {
    check!().for_each(|bytes| {
        let now = Moment::from_micros(1);
        let (mut conversation, mut request) = Conversation::begin(settings(), b"ines", 1, &mut fill, now).expect("it begins");
        let mut rest = bytes;
        while let [kind, length, after @ ..] = rest {
            let (data, after) = after.split_at(usize::from(*length).min(after.len()));
            rest = after;
            let kind = if *kind < 128 { request[4] } else { *kind };
            match conversation.receive(&eap::response(request[1], kind, data), &mut fill, now) {
                Turn::Send(next) => request = next,
                Turn::Decide(_) => match conversation.ask("Code: ").or_else(|| conversation.refuse("no", true, &mut fill)) {
                    Some(next) => request = next,
                    None => break,
                },
                Turn::Over | Turn::Failed(_) => break,
            }
        }
        assert!(conversation.end().msk.is_none(), "nobody was accepted");
    });
}
