//! TLS records in the terms of the RFCs, for traces. Only what travels in clear is named.

/// Names the records of one flight: handshake messages while they are readable, otherwise what kind of record it is.
pub(crate) fn flight(mut bytes: &[u8]) -> String {
    let mut named: Vec<&'static str> = Vec::new();
    let mut encrypted = false;
    while let [kind, _, _, high, low, rest @ ..] = bytes {
        let length = usize::from(u16::from_be_bytes([*high, *low]));
        let Some(body) = rest.get(..length) else { break };
        match kind {
            20 => {
                named.push("ChangeCipherSpec");
                encrypted = true;
            }
            21 => named.push("an alert"),
            22 if encrypted => named.push("Finished"),
            22 => handshake_messages(body, &mut named),
            23 => named.push("encrypted data"),
            _ => named.push("a record of an unknown type"),
        }
        bytes = &rest[length..];
    }
    named.dedup();
    if named.is_empty() { "data that is no TLS record".to_owned() } else { named.join(", ") }
}

fn handshake_messages(mut body: &[u8], named: &mut Vec<&'static str>) {
    while let [kind, l0, l1, l2, rest @ ..] = body {
        named.push(match kind {
            1 => "ClientHello",
            2 => "ServerHello",
            4 => "NewSessionTicket",
            11 => "Certificate",
            12 => "ServerKeyExchange",
            13 => "CertificateRequest",
            14 => "ServerHelloDone",
            15 => "CertificateVerify",
            16 => "ClientKeyExchange",
            20 => "Finished",
            22 => "CertificateStatus",
            _ => "a handshake message",
        });
        let length = u32::from_be_bytes([0, *l0, *l1, *l2]) as usize;
        let Some(after) = rest.get(length..) else { break };
        body = after;
    }
}

/// A number of bytes and fragments.
pub(crate) fn size(bytes: usize, fragments: usize) -> String {
    match fragments {
        1 => format!("{bytes} bytes"),
        _ => format!("{bytes} bytes in {fragments} fragments"),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn readable_messages_are_named_and_encrypted_ones_are_not() {
        let hello = [22, 3, 3, 0, 8, 2, 0, 0, 0, 14, 0, 0, 0];
        assert_eq!(flight(&hello), "ServerHello, ServerHelloDone");
        assert_eq!(flight(&[20, 3, 3, 0, 1, 1, 22, 3, 3, 0, 2, 9, 9, 23, 3, 3, 0, 1, 7]), "ChangeCipherSpec, Finished, encrypted data");
        assert_eq!(flight(&[22, 3, 3, 0, 9, 1]), "data that is no TLS record", "cut short");
        assert_eq!((size(300, 1), size(2741, 3)), ("300 bytes".to_owned(), "2741 bytes in 3 fragments".to_owned()));
    }
}
