//! One EAP packet: its code, identifier, type and data.

use thiserror::Error;

/// Which side sent a packet that carries a type.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Half {
    /// From the server.
    Request,
    /// From the peer.
    Response,
}

/// A request or response, borrowed from its bytes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct EapPacket<'p> {
    /// Which side sent it.
    pub half: Half,
    /// Pairs a response with its request.
    pub identifier: u8,
    /// The type (RFC 3748 section 5).
    pub kind: u8,
    /// What follows the type.
    pub data: &'p [u8],
}

/// Bytes that are not a request or a response.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Error)]
pub enum EapError {
    /// Shorter than a header with a type.
    #[error("the EAP packet has {0} bytes; a request or response has at least 5")]
    Short(usize),
    /// The length field says more than there is (RFC 3748 section 4: such a packet is discarded).
    #[error("the EAP packet claims {claimed} bytes and has {actual}")]
    Length {
        /// What the length field says.
        claimed: usize,
        /// How many bytes there are.
        actual: usize,
    },
    /// Neither a request nor a response.
    #[error("the EAP code is {0}; only 1 (Request) and 2 (Response) are expected here")]
    Code(u8),
}

const REQUEST: u8 = 1;
const RESPONSE: u8 = 2;
const SUCCESS: u8 = 3;
const FAILURE: u8 = 4;
const HEADER: usize = 5;

impl<'p> EapPacket<'p> {
    /// Reads a packet. Bytes after its length are padding and are left out (RFC 3748 section 4).
    ///
    /// # Errors
    /// [`EapError`] says what is wrong with the header.
    pub fn parse(bytes: &'p [u8]) -> Result<Self, EapError> {
        let [code, identifier, high, low, kind, ..] = bytes else { return Err(EapError::Short(bytes.len())) };
        let half = match *code {
            REQUEST => Half::Request,
            RESPONSE => Half::Response,
            other => return Err(EapError::Code(other)),
        };
        let claimed = usize::from(u16::from_be_bytes([*high, *low]));
        match bytes.get(HEADER..claimed) {
            Some(data) => Ok(EapPacket { half, identifier: *identifier, kind: *kind, data }),
            None if claimed < HEADER => Err(EapError::Short(claimed)),
            None => Err(EapError::Length { claimed, actual: bytes.len() }),
        }
    }
}

/// A request of the server.
pub fn request(identifier: u8, kind: u8, data: &[u8]) -> Vec<u8> {
    typed(REQUEST, identifier, kind, data)
}

/// A response of the peer.
pub fn response(identifier: u8, kind: u8, data: &[u8]) -> Vec<u8> {
    typed(RESPONSE, identifier, kind, data)
}

/// A Nak that asks for other methods; none if the peer has none to offer (RFC 3748 section 5.3.1).
pub fn nak(identifier: u8, wanted: &[u8]) -> Vec<u8> {
    response(identifier, super::NAK, if wanted.is_empty() { &[0] } else { wanted })
}

/// Success, with the identifier of the last response (RFC 3748 section 4.2).
pub fn success(identifier: u8) -> Vec<u8> {
    vec![SUCCESS, identifier, 0, 4]
}

/// Failure, with the identifier of the last response (RFC 3748 section 4.2).
pub fn failure(identifier: u8) -> Vec<u8> {
    vec![FAILURE, identifier, 0, 4]
}

fn typed(code: u8, identifier: u8, kind: u8, data: &[u8]) -> Vec<u8> {
    let data = &data[..data.len().min(usize::from(u16::MAX) - HEADER)];
    let length = (data.len() + HEADER) as u16;
    let [high, low] = length.to_be_bytes();
    [&[code, identifier, high, low, kind], data].concat()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn padding_after_the_length_is_left_out_and_a_length_beyond_the_end_is_an_error() {
        let identity = EapPacket { half: Half::Response, identifier: 7, kind: 1, data: b"ines" };
        assert_eq!(EapPacket::parse(&[2, 7, 0, 9, 1, b'i', b'n', b'e', b's', 0, 0]), Ok(identity));
        for (bytes, error) in [
            (&[2, 7, 0, 10, 1, b'i', b'n', b'e', b's'][..], EapError::Length { claimed: 10, actual: 9 }),
            (&[2, 7, 0, 4, 1], EapError::Short(4)),
            (&[2, 7, 0, 4], EapError::Short(4)),
            (&[3, 7, 0, 5, 1], EapError::Code(3)),
            (&[2, 7, 0xff, 0xff, 1], EapError::Length { claimed: 65535, actual: 5 }),
        ] {
            assert_eq!(EapPacket::parse(bytes), Err(error));
        }
    }

    #[test]
    fn what_is_written_is_read_back() {
        let bytes = request(9, 21, &[0x20]);
        assert_eq!(bytes, [1, 9, 0, 6, 21, 0x20]);
        assert_eq!(EapPacket::parse(&bytes), Ok(EapPacket { half: Half::Request, identifier: 9, kind: 21, data: &[0x20] }));
        assert_eq!(nak(3, &[]), [2, 3, 0, 6, 3, 0], "a peer without another method asks for method 0");
        assert_eq!((success(4), failure(5)), (vec![3, 4, 0, 4], vec![4, 5, 0, 4]));
    }
}
