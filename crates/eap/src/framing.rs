//! TLS messages cut into EAP packets and put together again (RFC 5216 section 2.1.5 and 3.1).

use crate::Failed;
use bivector_model::Cause;

/// The total length of the message follows.
const LENGTH: u8 = 0x80;
/// Further fragments follow.
const MORE: u8 = 0x40;
/// Begins a method; only from the server.
pub(crate) const START: u8 = 0x20;
/// Bytes of one TLS flight. The longest that peers send are certificate chains of a few kilobytes.
pub(crate) const MOST: usize = 64 * 1024;

/// Puts messages together and cuts them.
#[derive(Debug)]
pub(crate) struct Framing {
    /// Bytes of TLS data in one packet.
    size: usize,
    incoming: Vec<u8>,
    announced: Option<usize>,
    parts: usize,
    outgoing: Vec<u8>,
    sent: usize,
}

/// What a packet brought.
#[derive(Debug, PartialEq, Eq)]
pub(crate) enum Arrived {
    /// A fragment; more follow once it is acknowledged.
    Part,
    /// The acknowledgement of what we sent, or a packet without data.
    Acknowledged,
    /// A whole message, and in how many fragments it came.
    Whole(Vec<u8>, usize),
}

impl Framing {
    /// Packets hold at most `size` bytes of TLS data.
    pub(crate) fn new(size: usize) -> Self {
        Framing { size: size.max(64), incoming: Vec::new(), announced: None, parts: 0, outgoing: Vec::new(), sent: 0 }
    }

    /// Reads the data of one packet: flags, perhaps a length, and a piece of TLS.
    pub(crate) fn receive(&mut self, data: &[u8]) -> Result<Arrived, Failed> {
        let Some((flags, rest)) = data.split_first() else { return Err(Failed::malformed("the packet has no flags")) };
        let piece = match flags & LENGTH {
            0 => rest,
            _ => self.announce(rest)?,
        };
        if self.sent < self.outgoing.len() {
            let acknowledges = piece.is_empty() && flags & MORE == 0;
            return match acknowledges {
                true => Ok(Arrived::Acknowledged),
                false => Err(Failed::malformed("the peer sent data while fragments for it were still to come")),
            };
        }
        if piece.is_empty() && self.parts == 0 && flags & MORE == 0 {
            return Ok(Arrived::Acknowledged);
        }
        self.parts += 1;
        self.incoming.extend_from_slice(piece);
        let (have, announced) = (self.incoming.len(), self.announced.unwrap_or(MOST));
        if have > announced {
            return Err(Failed::malformed(format!("the fragments have {have} bytes so far, and {announced} were announced")));
        }
        if flags & MORE != 0 {
            return match piece.is_empty() {
                true => Err(Failed::malformed("a fragment announces more and holds nothing")),
                false => Ok(Arrived::Part),
            };
        }
        if let Some(announced) = self.announced.filter(|announced| *announced != have) {
            return Err(Failed::malformed(format!("the fragments add up to {have} bytes, and {announced} were announced")));
        }
        self.announced = None;
        Ok(Arrived::Whole(std::mem::take(&mut self.incoming), std::mem::take(&mut self.parts)))
    }

    /// Reads the total length. Only the first fragment needs one; where another repeats it, it must be the same.
    fn announce<'d>(&mut self, rest: &'d [u8]) -> Result<&'d [u8], Failed> {
        let Some((length, piece)) = rest.split_first_chunk::<4>() else {
            return Err(Failed::malformed("the packet says that a length follows, and none does"));
        };
        let length = u32::from_be_bytes(*length) as usize;
        if length > MOST {
            return Err(Failed::new(Cause::EapTooLong, format!("the peer announces a TLS message of {length} bytes; {MOST} are allowed")));
        }
        match self.announced {
            Some(before) if before != length => Err(Failed::malformed(format!("the announced length changed from {before} to {length}"))),
            None if self.parts > 0 => Err(Failed::malformed("a length was announced after the first fragment")),
            _ => {
                self.announced = Some(length);
                Ok(piece)
            }
        }
    }

    /// Takes a message to be sent. Gives the number of fragments that it needs.
    pub(crate) fn load(&mut self, message: Vec<u8>) -> usize {
        self.outgoing = message;
        self.sent = 0;
        self.outgoing.len().div_ceil(self.size).max(1)
    }

    /// Whether fragments of the message are still to be sent.
    pub(crate) fn is_sending(&self) -> bool {
        self.sent < self.outgoing.len()
    }

    /// The next packet: a fragment, or one without data if there is nothing to send.
    pub(crate) fn next(&mut self) -> Vec<u8> {
        let left = &self.outgoing[self.sent..];
        let piece = &left[..left.len().min(self.size)];
        let (first, last) = (self.sent == 0, piece.len() == left.len());
        let mut data = Vec::with_capacity(piece.len() + 5);
        data.push(if last { 0 } else { MORE } | if first && !last { LENGTH } else { 0 });
        if first && !last {
            data.extend((self.outgoing.len() as u32).to_be_bytes());
        }
        data.extend_from_slice(piece);
        self.sent += piece.len();
        if last {
            self.outgoing = Vec::new();
            self.sent = 0;
        }
        data
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn a_length_of_four_gigabytes_is_refused_before_anything_is_kept() {
        let error = Framing::new(1000).receive(&[LENGTH | MORE, 0xff, 0xff, 0xff, 0xff, 1, 2, 3]).unwrap_err();
        assert_eq!((error.cause, error.said.contains("4294967295")), (Cause::EapTooLong, true));
    }

    #[test]
    fn fragments_that_do_not_add_up_are_malformed() {
        for (packets, said) in [
            (&[&[][..]][..], "no flags"),
            (&[&[LENGTH, 0, 0]], "none does"),
            (&[&[LENGTH, 0, 0, 0, 9, 1, 2]], "add up to 2"),
            (&[&[LENGTH | MORE, 0, 0, 0, 3, 1, 2], &[0, 3, 4]], "4 bytes so far"),
            (&[&[LENGTH | MORE, 0, 0, 0, 3, 1, 2], &[LENGTH, 0, 0, 0, 4, 3, 4]], "changed from 3 to 4"),
            (&[&[MORE, 1], &[LENGTH, 0, 0, 0, 4, 3, 4]], "after the first"),
            (&[&[MORE]], "holds nothing"),
        ] {
            let mut framing = Framing::new(1000);
            let error = packets.iter().find_map(|packet| framing.receive(packet).err()).expect(said);
            assert!(error.cause == Cause::EapMalformed && error.said.contains(said), "{}", error.said);
        }
    }

    #[test]
    fn data_is_refused_while_our_own_fragments_are_still_to_come() {
        let mut framing = Framing::new(64);
        assert_eq!(framing.load(vec![1; 100]), 2);
        assert_eq!(framing.next()[..5], [LENGTH | MORE, 0, 0, 0, 100]);
        assert!(framing.receive(&[0, 1]).unwrap_err().said.contains("still to come"));
        assert_eq!((framing.receive(&[0]), framing.next().len(), framing.is_sending()), (Ok(Arrived::Acknowledged), 37, false));
    }

    proptest! {
        #[test]
        fn any_message_arrives_whole_in_fragments_of_any_size(message in proptest::collection::vec(any::<u8>(), 1..5000), size in 64..1500usize) {
            let (mut sender, mut receiver) = (Framing::new(size), Framing::new(size));
            let expected = sender.load(message.clone());
            for part in 1.. {
                match receiver.receive(&sender.next()).unwrap() {
                    Arrived::Part => prop_assert_eq!(sender.receive(&receiver.next()).unwrap(), Arrived::Acknowledged),
                    Arrived::Whole(whole, parts) => {
                        prop_assert_eq!((whole, parts, part), (message, expected, expected));
                        break;
                    }
                    Arrived::Acknowledged => prop_assert!(false, "data came"),
                }
            }
        }

        #[test]
        fn any_packets_are_taken_or_refused(packets in proptest::collection::vec(proptest::collection::vec(any::<u8>(), 0..40), 0..20)) {
            let mut framing = Framing::new(100);
            for packet in packets {
                let _ = framing.receive(&packet);
                prop_assert!(framing.incoming.len() <= MOST);
            }
        }
    }
}
