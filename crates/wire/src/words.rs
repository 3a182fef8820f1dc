//! What an attribute of a reply tells the gateway, in words: for the attributes whose meaning a standard fixes.

use crate::VendorAttribute;
use crate::dictionary::AttributeType;
use crate::mschap::{MICROSOFT, MS_CHAP_ERROR, MS_CHAP2_SUCCESS};

/// Numbers of Microsoft's keys (RFC 2548 sections 2.4.2 and 2.4.3).
const MS_MPPE_KEYS: [u8; 2] = [16, 17];

/// What an attribute means to the gateway; nothing where that is the gateway's own affair.
pub fn in_words(kind: AttributeType, value: &[u8]) -> Option<String> {
    use AttributeType as A;
    let number = || value.try_into().ok().map(u32::from_be_bytes);
    let said = |text: &str| Some(text.to_owned());
    match kind {
        // RFC 2865 section 5.25.
        A::Class => said("sent back with accounting, unread"),
        A::ReplyMessage => said("shown to the person, where the gateway can"),
        A::FilterId => said("the name of a filter on the gateway"),
        A::SessionTimeout => number().map(|seconds| format!("the session ends after {}", span(seconds))),
        A::IdleTimeout => number().map(|seconds| format!("it ends after {} without traffic", span(seconds))),
        A::TerminationAction => number().and_then(|action| match action {
            0 => said("then it is over"),
            1 => said("then the person is asked again"),
            _ => None,
        }),
        A::AcctInterimInterval => number().map(|seconds| format!("accounting is told every {}", span(seconds))),
        A::PortLimit => number().map(|ports| format!("at most {ports} at one time")),
        A::ServiceType => number().and_then(|service| match service {
            1 => said("a login on the device itself"),
            2 => said("a connection for packets"),
            6 => said("administration of the device, with all rights"),
            7 => said("a prompt of the device, without rights"),
            8 => said("nothing but the check itself"),
            _ => None,
        }),
        A::FramedIpAddress => match value {
            [255, 255, 255, 255] => said("an address of the person's choice"),
            [255, 255, 255, 254] => said("an address of the gateway's choice"),
            _ => said("the person's address"),
        },
        A::FramedIpNetmask => said("the netmask of that address"),
        A::FramedPool => said("the gateway's pool that the address comes from"),
        A::FramedRoute => said("a route that the gateway sets"),
        A::FramedMtu => number().map(|bytes| format!("packets of {bytes} bytes at most")),
        A::TunnelPrivateGroupId => said("the network (VLAN) that the person is put in"),
        A::State => said("comes back with the answer to the prompt"),
        A::EapMessage => said("for the person's own device"),
        A::VendorSpecific => vendor(value),
        _ => None,
    }
}

fn vendor(value: &[u8]) -> Option<String> {
    let mut own = VendorAttribute::read_all(value).filter(|attribute| attribute.vendor == MICROSOFT);
    own.find_map(|attribute| microsoft(attribute.number)).map(str::to_owned)
}

fn microsoft(number: u8) -> Option<&'static str> {
    Some(match number {
        MS_CHAP2_SUCCESS => "proves to the person's device that we know the password (RFC 2759)",
        MS_CHAP_ERROR => "tells the person's device why not (RFC 2759)",
        number if MS_MPPE_KEYS.contains(&number) => "a key of the connection, hidden (RFC 2548)",
        _ => return None,
    })
}

/// A number of seconds as people say it.
fn span(seconds: u32) -> String {
    let of = |unit: u32, one: &str, many: &str| {
        let count = seconds / unit;
        format!("{count} {}", if count == 1 { one } else { many })
    };
    match seconds {
        0 => "no time at all".to_owned(),
        _ if seconds.is_multiple_of(86_400) => of(86_400, "day", "days"),
        _ if seconds.is_multiple_of(3600) => of(3600, "hour", "hours"),
        _ if seconds.is_multiple_of(60) => of(60, "minute", "minutes"),
        _ => of(1, "second", "seconds"),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn attributes_with_a_fixed_meaning_are_told_in_words_and_others_are_not() {
        let said = |kind, value: &[u8]| in_words(kind, value).unwrap_or_default();
        for (seconds, wanted) in [(28_800u32, "8 hours"), (60, "1 minute"), (90, "90 seconds"), (172_800, "2 days"), (0, "no time at all")]
        {
            assert_eq!(said(AttributeType::SessionTimeout, &seconds.to_be_bytes()), format!("the session ends after {wanted}"));
        }
        assert_eq!(said(AttributeType::ServiceType, &[0, 0, 0, 6]), "administration of the device, with all rights");
        assert_eq!(said(AttributeType::FramedIpAddress, &[255, 255, 255, 254]), "an address of the gateway's choice");
        assert_eq!(in_words(AttributeType::SessionTimeout, &[1]), None, "three bytes too few");
        assert_eq!(in_words(AttributeType::Unknown(250), b"x"), None);
        let success = [&311u32.to_be_bytes()[..], &[26, 4, b'S', b'=']].concat();
        assert!(said(AttributeType::VendorSpecific, &success).contains("RFC 2759"));
    }
}
