//! What a peer says that it wants, in words: for operators whose chain does not accept it.

use super::shown;

/// Response.
const RESPONSE: u8 = 2;
/// Nak: the peer wants another method than the one offered.
const NAK: u8 = super::NAK;

/// What a peer's message says of the method that it wants, as a clause behind "the peer".
pub fn wanted(message: &[u8]) -> String {
    match message {
        [RESPONSE, _, _, _, 1, ..] => "has told its name and no method yet".to_owned(),
        [RESPONSE, _, _, _, NAK, methods @ ..] => {
            let methods: Vec<String> = methods.iter().filter(|method| **method != 0).map(|method| shown(*method)).collect();
            if methods.is_empty() {
                "wants another method than the one offered, and names none".to_owned()
            } else {
                format!("wants {}", methods.join(" or "))
            }
        }
        [RESPONSE, _, _, _, method, ..] => format!("speaks {}", shown(*method)),
        // RFC 3579 section 2.1: a gateway may ask the server to begin with an empty message.
        [] | [_] => "has said nothing yet".to_owned(),
        _ => "has sent no EAP-Response".to_owned(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_wanted_method_is_named_whether_it_is_spoken_or_asked_for() {
        for (message, said) in [
            (&[2, 7, 0, 9, 1, b'i', b'n', b'e', b's'][..], "has told its name and no method yet"),
            (&[2, 8, 0, 7, 3, 13, 21], "wants EAP-TLS (13) or EAP-TTLS (21)"),
            (&[2, 8, 0, 6, 3, 0], "wants another method than the one offered, and names none"),
            (&[2, 9, 0, 6, 25, 0], "speaks PEAP (25)"),
            (&[2, 9, 0, 5, 99], "speaks method 99"),
            (&[], "has said nothing yet"),
            (&[1, 1, 0, 5, 1], "has sent no EAP-Response"),
            (&[2, 1], "has sent no EAP-Response"),
        ] {
            assert_eq!(wanted(message), said);
        }
    }
}
