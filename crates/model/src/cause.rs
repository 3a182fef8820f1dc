//! The closed catalogue of causes: why a login ended as it did, whose side it is on, and what to do about it.

use serde::{Deserialize, Serialize};
use std::fmt;
use utoipa::ToSchema;

/// Whose side a cause is on. Selects wording, metric and log level.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Fault {
    /// The device in front of us.
    Gateway,
    /// The person at the keyboard.
    Person,
    /// A directory or another source behind us.
    Source,
    /// The site file.
    Site,
    /// Bivector itself.
    Ours,
}

macro_rules! causes {
    ($($variant:ident $slug:literal $fault:ident $sentence:literal $remedy:literal;)*) => {
        /// Why a login ended without an accept.
        #[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
        #[serde(rename_all = "kebab-case")]
        pub enum Cause {
            $(#[doc = $sentence] $variant,)*
        }

        impl Cause {
            /// The whole catalogue.
            pub const ALL: &[Cause] = &[$(Cause::$variant),*];

            /// Its stable name in traces, the API and the command line.
            pub fn slug(self) -> &'static str {
                match self { $(Cause::$variant => $slug,)* }
            }

            /// The one of that name.
            pub fn from_slug(slug: &str) -> Option<Self> {
                match slug { $($slug => Some(Cause::$variant),)* _ => None }
            }

            /// One sentence for the operator.
            pub fn sentence(self) -> &'static str {
                match self { $(Cause::$variant => $sentence,)* }
            }

            /// What to do about it.
            pub fn remedy(self) -> &'static str {
                match self { $(Cause::$variant => $remedy,)* }
            }

            /// Whether such a packet is met with silence, as the standard wants it.
            pub fn is_silent(self) -> bool {
                use Cause::*;
                matches!(self, GatewayUnknown | SecretDiffers | PacketAltered | IntegrityMissing | PacketMalformed | Overloaded)
            }

            /// Whose side it is on.
            pub fn fault(self) -> Fault {
                match self { $(Cause::$variant => Fault::$fault,)* }
            }
        }
    };
}

causes! {
    GatewayUnknown "gateway-unknown" Gateway
        "a packet came from an address that no gateway has"
        "register the address under `from` of a gateway, if the device is yours";
    SecretDiffers "secret-differs" Gateway
        "the gateway uses another shared secret than the one sealed here"
        "enter the same secret on both sides: `bivector secret set` here, and the device's own settings there; look for a stray space";
    PacketAltered "packet-altered" Gateway
        "the shared secret is right, but the packet was changed after the gateway signed it"
        "look for a device between gateway and Bivector that rewrites RADIUS packets";
    IntegrityMissing "integrity-missing" Gateway
        "the request carries no Message-Authenticator, and this gateway must send one"
        "switch Message-Authenticator on at the device; only if it cannot, set `message_authenticator = \"when-present\"` on the gateway";
    PacketMalformed "packet-malformed" Gateway
        "the datagram is not a RADIUS packet that adds up"
        "compare the offset named in the step with a capture from the device";
    DeviceDiffers "device-differs" Gateway
        "the request calls its device by another name than this gateway has"
        "compare the device's NAS-Identifier with `identifier` of the gateway; two devices may share an address or a secret";
    ChainMissing "chain-missing" Site
        "no chain takes logins from this gateway"
        "name the gateway under `gateways` of a chain";
    MethodNotInChain "method-not-in-chain" Site
        "the gateway used an authentication method that the chain does not take"
        "set the device to one of the methods listed under `methods` of the chain";
    MethodNeedsText "method-needs-text" Site
        "the method proves the password without telling it, and the source that knows the person cannot compare such a proof"
        "the step says what would help; `docs/methods.md` has the whole table";
    PasswordNotKept "password-not-kept" Source
        "the source keeps nothing of this person's password that the gateway's method could be compared with"
        "import the person again with `keep` set to `text` or `nt-hash`, or set the gateway to PAP";
    CredentialMissing "credential-missing" Gateway
        "the request carries no password and no other credential"
        "check which authentication method is set on the device";
    CredentialUnreadable "credential-unreadable" Gateway
        "the attributes that carry the credential do not add up"
        "compare the attribute named in the step with a capture from the device";
    NameMissing "name-missing" Gateway
        "the request carries no User-Name, or an empty one"
        "check that the device sends the name the person typed";
    NameUnreadable "name-unreadable" Gateway
        "the name is not UTF-8, is too long, or holds control characters"
        "set the device to send names as UTF-8";
    NameRealmUnknown "name-realm-unknown" Person
        "the name carries a domain or realm that the identity rule does not know"
        "add it to `strip_prefix` or `strip_suffix` of the identity rule, if it is one of yours";
    PasswordUnreadable "password-unreadable" Gateway
        "the password is not UTF-8, so no directory can compare it"
        "set the device to send passwords as UTF-8";
    PasswordMissing "password-missing" Person
        "the password is empty once the code is taken off"
        "the person types the password first, then the code, in one field";
    PersonUnknown "person-unknown" Person
        "no source knows this name"
        "check the spelling; check `base`, `scope` and `login` of the directory, or import the person into the roster";
    PersonAmbiguous "person-ambiguous" Source
        "the directory has more than one entry for this name"
        "narrow `base` or choose another `login` attribute, so that a name finds one entry";
    PasswordWrong "password-wrong" Person
        "the source says that the password is wrong"
        "the person types the password again, or has it reset";
    AccountLocked "account-locked" Source
        "the directory has locked the account"
        "unlock the account in the directory, or wait until its lock ends";
    AccountDisabled "account-disabled" Source
        "the account is disabled"
        "enable it in the source, if the person is meant to get in";
    AccountExpired "account-expired" Source
        "the account has expired"
        "extend the account in the directory";
    PasswordExpired "password-expired" Source
        "the password is right but has expired"
        "the person changes the password where your organisation does that; or set `change_password = true` on the chain, where the gateway shows prompts";
    PasswordMustChange "password-must-change" Source
        "the password must be changed before the first login"
        "the person changes the password where your organisation does that";
    SourceUnreachable "source-unreachable" Source
        "no server of the source could be reached"
        "check that the servers run and that the network lets this machine connect to them";
    SourceNameUnresolved "source-name-unresolved" Source
        "the name of the source's server does not resolve"
        "check the spelling under `servers` and the resolver of this machine";
    SourceTlsUntrusted "source-tls-untrusted" Source
        "the certificate of the source's server is not trusted"
        "put the issuer's certificate into the file named under `trust`, and use the name that stands in the certificate";
    SourceReaderRefused "source-reader-refused" Source
        "the directory refuses the service account"
        "check `reader.dn` and seal its password again with `bivector secret set`";
    SourceBaseMissing "source-base-missing" Source
        "the directory has no entry at `base`"
        "check `base` of the directory against what the server holds";
    SourceSlow "source-slow" Source
        "the source took longer to answer than `patience.answer` allows"
        "look at the directory server's load; raise `patience.answer` if it is always this slow";
    UpstreamRefused "upstream-refused" Source
        "the upstream refuses the login, and an upstream does not say why"
        "look for the login in the upstream's own log; its text, where it gave one, stands in the step";
    UpstreamSecretDiffers "upstream-secret-differs" Source
        "the upstream answers, but its answers do not prove themselves with the shared secret sealed here"
        "enter the same secret on both sides, and let the upstream sign its replies with Message-Authenticator";
    SourceAnswerUnusable "source-answer-unusable" Source
        "the source gave an answer that cannot be used"
        "the step names what came back; compare it with the directory's own log";
    PasswordNotChanged "password-not-changed" Person
        "the password has expired and the person did not set a new one that the directory takes"
        "the person tries again with a password that fits the directory's rules; the step names what it said";
    ChallengeForeign "challenge-foreign" Gateway
        "the answer to a prompt belongs to no prompt of ours, or to another person or gateway"
        "the person starts the login again; if it repeats, the device mixes up its State attributes";
    ChallengeExpired "challenge-expired" Person
        "the prompt was answered too late"
        "the person starts the login again and answers sooner; `prompt_lasts` under `[factors]` says how soon";
    PromptUnanswered "prompt-unanswered" Person
        "nobody answered the prompt while it could be answered"
        "the person starts the login again; `prompt_lasts` under `[factors]` says how long a prompt can be answered";
    ChallengeUsed "challenge-used" Gateway
        "the prompt was answered before; each may be answered once"
        "the person starts the login again; if it repeats, the device sends an old State attribute";
    DeviceAccountMissing "device-account-missing" Gateway
        "the device knows no account of this name and has sent a placeholder in place of the password"
        "create the account on that machine (an SSH server does not pass on what people without an account there type)";
    FieldsNotRead "fields-not-read" Gateway
        "the password field holds password and code as two packed fields, and the gateway is not configured for that"
        "set `fields = \"scrv1\"` on the gateway, if that is how its program sends them";
    PasswordLimited "password-limited" Person
        "too many wrong passwords were typed for this person; the source is not asked for a growing time"
        "find out who typed them; wait, or let the person try again with `bivector factor release`. The limit is under `[passwords]`";
    CallerLimited "caller-limited" Gateway
        "too many wrong passwords came from this caller; the source is not asked for a growing time"
        "the trace names the caller; wait, and find out who it is. The limit is under `[passwords]`";
    CredentialSeveral "credential-several" Gateway
        "the request carries several credentials, which the RFCs forbid"
        "the step names them; correct the device so that it sends one (RFC 2865 section 4.1, RFC 2548 section 2.3, RFC 3579 section 3.3)";
    NotEnrolled "not-enrolled" Person
        "the person has no second factor yet"
        "invite the person with `bivector factor invite`; `when_not_enrolled` of the chain says what happens until then";
    CodeMissing "code-missing" Person
        "the password is right, but no code was typed"
        "the person types the code from the token right behind the password";
    CodeWrong "code-wrong" Person
        "the password is right, the code is wrong"
        "the person waits for the next code and types it again";
    CodeEnded "code-ended" Person
        "the temporary code was right once, but its time is over"
        "issue a new one with `bivector factor temporary`, or enrol a device";
    PinMissing "pin-missing" Person
        "the code is right, but the PIN of its device was not typed, or none is set"
        "the person types the PIN right before the code; `bivector factor pin` sets one";
    PinWrong "pin-wrong" Person
        "the code is right, the PIN before it is wrong"
        "the person types it again; `bivector factor pin` sets a new one";
    FactorLocked "factor-locked" Person
        "too many wrong codes or PINs have locked the person's second factor"
        "wait until the lock ends, or release it with `bivector factor release` once you know who typed them";
    CourierFailed "courier-failed" Source
        "the code could not be sent"
        "the step names what the courier said; compare it with the receiver's own log";
    CourierLimit "courier-limit" Person
        "no further code is sent now: the limit for one login, one person or all people is reached"
        "wait; if nobody asked for the codes, somebody knows the person's password. The limits are under `[factors.sent]`";
    FactorUnreachable "factor-unreachable" Person
        "the person chose a factor that cannot reach them"
        "add the address or number to the person's entry, or let the person choose another factor";
    ApprovalDenied "approval-denied" Person
        "the person denied the login on the handset, or picked another number than the gateway showed"
        "ask the person; if nobody logged in, somebody else knows the password: have it changed";
    ApprovalDisowned "approval-disowned" Person
        "the person says on the handset that this login is not theirs"
        "somebody else knows the password: have it changed, then let approvals go on with `bivector factor release`";
    ApprovalStopped "approval-stopped" Person
        "approvals for this person are stopped, since they said that a login was not theirs"
        "wait until the stop ends, or let approvals go on with `bivector factor release` once the password is changed";
    ApprovalUnanswered "approval-unanswered" Person
        "nobody answered the approval on the handset in time"
        "the person opens the handset page and tries again; `second_patience` of the chain says how long it may take";
    ApprovalBusy "approval-busy" Person
        "another approval of this person is waiting for its answer, or as many as allowed were asked for in this hour"
        "answer the one that waits; the limit is `per_person` under `[handset]`";
    PersonSuspended "person-suspended" Person
        "an operator has suspended this person here"
        "let the person in again with `bivector person suspend --lift`, if that is meant";
    CodeUsed "code-used" Person
        "this code, or a newer one of the same device, has been used before"
        "the person waits for the next code; if nobody used it, somebody may have seen it";
    CodeDrifted "code-drifted" Person
        "the code is a real one of this person's, but from another time"
        "set the clock of the person's device right, and check the clock of this machine";
    NoRule "no-rule" Site
        "no rule of the chain fits this person"
        "add a rule for one of the groups named in the step";
    RuleRefused "rule-refused" Site
        "a rule keeps this person out"
        "the step names the rule and its line; change it or the person's groups";
    ReplyTooLong "reply-too-long" Site
        "the reply would be longer than the 4096 bytes a packet may have"
        "shorten the grant";
    RecordsUnavailable "records-unavailable" Ours
        "the records could not be written, so the code could not be marked as used"
        "look at the free space and the rights of the data folder; nobody gets in with a code until it can be written";
    Overloaded "overloaded" Ours
        "more logins are in flight than the limits allow"
        "look for a source that has become slow; raise `logins_in_flight` only if there is memory for it";
    Unfinished "unfinished" Ours
        "the login could not be ended in order"
        "the step names what happened; please report it";
}

impl fmt::Display for Cause {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.slug())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn slugs_are_what_json_says_and_no_two_are_alike() {
        let mut seen = std::collections::HashSet::new();
        for cause in Cause::ALL {
            assert!(seen.insert(cause.slug()));
            let words: String = format!("{cause:?}")
                .chars()
                .flat_map(|c| if c.is_uppercase() { vec!['-', c.to_ascii_lowercase()] } else { vec![c] })
                .collect();
            assert_eq!(words.trim_start_matches('-'), cause.slug(), "serde derives the same slug from the variant");
            for text in [cause.sentence(), cause.remedy()] {
                assert!(!text.ends_with('.') && text.starts_with(char::is_lowercase), "{text}");
            }
        }
    }
}
