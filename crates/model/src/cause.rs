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
        "a packet came from an address that is not assigned to any gateway"
        "if the device is yours, add its address to `from` of a gateway";
    SecretDiffers "secret-differs" Gateway
        "the gateway uses a different shared secret from the one sealed here"
        "set the same secret here (`bivector secret set`) and on the device; check for a stray space";
    PacketAltered "packet-altered" Gateway
        "the shared secret matches, but the packet was modified after the gateway signed it"
        "look for a device between the gateway and Bivector that rewrites RADIUS packets";
    IntegrityMissing "integrity-missing" Gateway
        "the request has no Message-Authenticator, which is required from this gateway"
        "enable Message-Authenticator on the device; only if it cannot send it, set `message_authenticator = \"when-present\"` for the gateway";
    PacketMalformed "packet-malformed" Gateway
        "the datagram is not a well-formed RADIUS packet"
        "check the offset given in the step against a packet capture from the device";
    DeviceDiffers "device-differs" Gateway
        "the NAS-Identifier in the request does not belong to this gateway"
        "compare the device's NAS-Identifier with `identifier` of the gateway; two devices may be sharing an address or a secret";
    ChainMissing "chain-missing" Site
        "no chain accepts logins from this gateway"
        "add the gateway to `gateways` of a chain";
    MethodNotInChain "method-not-in-chain" Site
        "the gateway used an authentication method that the chain does not accept"
        "set the device to one of the chain's `methods`";
    MethodNeedsText "method-needs-text" Site
        "the method sends a challenge response instead of the password, and the person's source cannot verify one"
        "see the step for the options; `docs/methods.md` lists all combinations";
    PasswordNotKept "password-not-kept" Source
        "the source stores this person's password in a form that the gateway's method cannot be verified against"
        "re-import the person with `keep` set to `text` or `nt-hash`, or switch the gateway to PAP";
    CredentialMissing "credential-missing" Gateway
        "the request contains no password or other credential"
        "check which authentication method is set on the device";
    CredentialUnreadable "credential-unreadable" Gateway
        "the credential attributes are malformed"
        "check the attribute named in the step against a packet capture from the device";
    EapMalformed "eap-malformed" Gateway
        "the person's device sent an EAP message that breaks the protocol"
        "see the step; update the device's software, or capture the exchange and compare it with the RFC named there";
    EapUnfinished "eap-unfinished" Gateway
        "the person's device stopped answering in the middle of the EAP conversation"
        "if it stopped during the TLS handshake, it usually does not trust the server certificate: install its issuer on the device";
    EapTooLong "eap-too-long" Gateway
        "the EAP conversation is larger or longer than the limits allow"
        "look for a device that sends endless fragments or very long certificate chains";
    EapForeign "eap-foreign" Gateway
        "the EAP message belongs to no open conversation of this gateway"
        "the conversation has expired or the service was restarted; the person can log in again. If it happens often, check that all packets of a login reach the same node";
    RealmDiffers "realm-differs" Person
        "the name inside the tunnel belongs to another realm than the outer identity"
        "set the same realm in both identities on the device, or leave it out of the outer one";
    TlsVersion "tls-version" Gateway
        "the person's device offers no TLS version that is accepted"
        "update the device; TLS 1.2 is the oldest version that is accepted";
    TlsAlert "tls-alert" Gateway
        "the person's device ended the TLS handshake with an alert"
        "see the step; usually the issuer of the server certificate must be installed on the device";
    TlsFailed "tls-failed" Gateway
        "the TLS handshake with the person's device failed"
        "see the step for what was wrong";
    CertificateMissing "certificate-missing" Person
        "the person's device sent no certificate, and the chain requires one"
        "install the person's certificate on the device and select it there";
    CertificateUntrusted "certificate-untrusted" Person
        "the certificate was issued by nobody in `[[issuers]]`"
        "issue the person a certificate of a listed issuer, or add its issuer to `[[issuers]]`";
    CertificateExpired "certificate-expired" Person
        "the certificate has expired"
        "renew the person's certificate";
    CertificateNotYetValid "certificate-not-yet-valid" Person
        "the certificate is not valid yet"
        "check the date in the certificate, and the clocks of the issuer and of this machine";
    CertificateRevoked "certificate-revoked" Person
        "the certificate has been revoked"
        "issue a new certificate if the person may still log in";
    CertificateRevocationUnknown "certificate-revocation-unknown" Source
        "it cannot be determined whether the certificate has been revoked, and the issuer's setting requires that"
        "refresh the revocation list, or set `when_unknown = \"accept\"` for the issuer";
    CertificateNameMissing "certificate-name-missing" Person
        "the certificate does not contain the name that identifies a person"
        "issue certificates with that name, or choose another one in `name_from` of the issuer";
    CertificatePersonDiffers "certificate-person-differs" Person
        "the certificate and the name or password belong to different people"
        "the person must use their own certificate; check which one the device selects";
    CertificatePurpose "certificate-purpose" Person
        "the certificate may not be used to log in: its key usage, purpose or key size is not accepted"
        "issue a certificate for client authentication with a key of the required size";
    NameMissing "name-missing" Gateway
        "the User-Name is missing or empty"
        "check that the device forwards the login name";
    NameUnreadable "name-unreadable" Gateway
        "the login name is not valid UTF-8, is too long or contains control characters"
        "configure the device to send UTF-8, or set `charset = \"latin-1\"` for the gateway";
    NameRealmUnknown "name-realm-unknown" Person
        "the login name has a domain or realm that the identity rule does not strip"
        "if it is one of yours, add it to `strip_prefix` or `strip_suffix` of the identity rule";
    PasswordUnreadable "password-unreadable" Gateway
        "the password is not valid UTF-8, so no directory can check it"
        "configure the device to send UTF-8, or set `charset = \"latin-1\"` for the gateway";
    PasswordMissing "password-missing" Person
        "no password was entered: the field is empty or contains only a code"
        "ask the person to type the password followed by the code, in the same field";
    PersonUnknown "person-unknown" Person
        "the login name was not found in any source"
        "check the spelling, and `base`, `scope` and `login` of the directory; or add the person to the roster";
    PersonAmbiguous "person-ambiguous" Source
        "the directory returned more than one entry for this login name"
        "narrow `base`, or choose a `login` attribute that is unique";
    PasswordWrong "password-wrong" Person
        "the source rejected the password"
        "ask the person to retry, or reset the password";
    AccountLocked "account-locked" Source
        "the account is locked in the directory"
        "unlock the account in the directory, or wait until the lockout expires";
    AccountDisabled "account-disabled" Source
        "the account is disabled"
        "if the person should have access, enable the account in its source";
    AccountExpired "account-expired" Source
        "the account has expired"
        "extend the account in the directory";
    PasswordExpired "password-expired" Source
        "the password is correct but has expired"
        "have the person change the password; if the gateway shows prompts, `change_password = true` on the chain lets them do it at login";
    PasswordMustChange "password-must-change" Source
        "the password must be changed before the first login"
        "have the person change the password through your usual password portal";
    SourceUnreachable "source-unreachable" Source
        "none of the source's servers could be reached"
        "check that the servers are running and reachable from this machine (routing, firewall)";
    SourceNameUnresolved "source-name-unresolved" Source
        "the host name of a server does not resolve"
        "check the host name under `servers` and this machine's DNS resolver";
    SourceTlsUntrusted "source-tls-untrusted" Source
        "the server's certificate is not trusted"
        "add the issuing CA's certificate to the file named under `trust`, and use a host name that the certificate covers";
    SourceReaderRefused "source-reader-refused" Source
        "the directory rejected the service account's bind"
        "check `reader.dn`, and re-seal its password with `bivector secret set`";
    SourceBaseMissing "source-base-missing" Source
        "the directory has no entry at `base`"
        "correct `base` of the directory";
    SourceSlow "source-slow" Source
        "the source did not answer within `patience.answer`"
        "check the server's load; raise `patience.answer` if it is always this slow";
    UpstreamRefused "upstream-refused" Source
        "the upstream rejected the login; RADIUS gives no reason"
        "check the upstream's log for the reason; the step shows its Reply-Message, if any";
    UpstreamSecretDiffers "upstream-secret-differs" Source
        "the upstream's replies do not verify with the shared secret sealed here"
        "set the same secret on both sides, and enable Message-Authenticator in the upstream's replies";
    SourceAnswerUnusable "source-answer-unusable" Source
        "the source returned an unexpected answer"
        "see the step for the answer, and compare it with the directory's log";
    TooManySessions "too-many-sessions" Person
        "the person has as many open sessions as the grant allows"
        "end one with `bivector session end`, or raise `sessions` of the grant; see `bivector session list --state open`";
    PoolExhausted "pool-exhausted" Site
        "all addresses of the grant's pool are taken"
        "add a range to the pool, or end sessions that are not needed; see `bivector session pools`";
    PasswordNotChanged "password-not-changed" Person
        "the password has expired, and the person did not set a new one that the directory accepts"
        "have the person retry with a password that meets the directory's policy; the step shows its answer";
    ChallengeForeign "challenge-foreign" Gateway
        "the State attribute matches no open prompt, or one for another person or gateway"
        "have the person start again; if it keeps happening, the device returns wrong State attributes";
    ChallengeExpired "challenge-expired" Person
        "the prompt expired before it was answered"
        "have the person start again; `prompt_lasts` under `[factors]` sets the time limit";
    PromptUnanswered "prompt-unanswered" Person
        "nobody answered the prompt while it could be answered"
        "the person starts the login again; `prompt_lasts` under `[factors]` says how long a prompt can be answered";
    ChallengeUsed "challenge-used" Gateway
        "the prompt has already been answered; each can be answered only once"
        "have the person start again; if it keeps happening, the device reuses an old State attribute";
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
        "invite the person with `bivector factor invite`; `when_not_enrolled` of the chain sets what happens until then";
    CodeMissing "code-missing" Person
        "the password is correct, but no code was entered"
        "ask the person to type the code directly after the password";
    CodeWrong "code-wrong" Person
        "the password is correct, but the code is wrong"
        "ask the person to retry with the next code";
    CodeEnded "code-ended" Person
        "the temporary code has expired"
        "issue a new one with `bivector factor temporary`, or have the person enrol a device";
    PinMissing "pin-missing" Person
        "the code is correct, but the device's PIN is missing or not set"
        "ask the person to type the PIN directly before the code; set one with `bivector factor pin`";
    PinWrong "pin-wrong" Person
        "the code is correct, but the PIN before it is wrong"
        "ask the person to retry, or set a new PIN with `bivector factor pin`";
    FactorLocked "factor-locked" Person
        "the person's second factor is locked after too many wrong codes or PINs"
        "wait until the lock expires; or find out who entered them, then unlock with `bivector factor release`";
    CourierFailed "courier-failed" Source
        "the courier could not send the code"
        "see the step for the courier's error, and check the provider's log";
    CourierLimit "courier-limit" Person
        "no more codes are sent for now: a limit (per login, per person or overall) is reached"
        "wait; if the person did not request these codes, their password is known to somebody else. The limits are set under `[factors.sent]`";
    FactorUnreachable "factor-unreachable" Person
        "the person chose a factor for which no address, number or device is recorded"
        "add the missing email address or phone number, or have the person choose another factor";
    ApprovalDenied "approval-denied" Person
        "the login was denied on the handset, or the wrong number was picked"
        "ask the person; if it was not their login, have the password changed";
    ApprovalDisowned "approval-disowned" Person
        "the person reported on the handset that this login is not theirs"
        "have the password changed, then re-enable approvals with `bivector factor release`";
    ApprovalStopped "approval-stopped" Person
        "approvals for this person are stopped because they reported a login that was not theirs"
        "once the password is changed, re-enable approvals with `bivector factor release`, or wait until the stop expires";
    ApprovalUnanswered "approval-unanswered" Person
        "the approval was not answered on the handset in time"
        "ask the person to open the handset page and retry; `second_patience` of the chain sets the time limit";
    ApprovalBusy "approval-busy" Person
        "the person already has an open approval, or has reached the hourly limit"
        "have the person answer the open one; the limit is `per_person` under `[handset]`";
    PersonSuspended "person-suspended" Person
        "the person is suspended in Bivector"
        "if the person should have access, run `bivector person suspend --lift`";
    CodeUsed "code-used" Person
        "this code, or a newer one of the same device, has already been used"
        "ask the person to use the next code; if they did not use this one, somebody else did";
    CodeDrifted "code-drifted" Person
        "the code is from the person's device, but outside the accepted time or counter range"
        "correct the device's clock and check this machine's; or resynchronise with `bivector factor resync`";
    NoRule "no-rule" Site
        "no rule of the chain matches this person"
        "add a rule for one of the groups named in the step";
    RuleRefused "rule-refused" Site
        "a rule refuses this person"
        "see the step for the rule and its line; change the rule or the person's groups";
    ReplyTooLong "reply-too-long" Site
        "the reply would exceed the RADIUS limit of 4096 bytes"
        "remove or shorten attributes of the grant";
    RecordsUnavailable "records-unavailable" Ours
        "the records could not be written, so the code could not be marked as used"
        "check the data folder's free space and permissions; no login with a code succeeds until it is writable";
    Overloaded "overloaded" Ours
        "the limit of concurrent logins is reached"
        "look for a slow source; raise `logins_in_flight` only if memory allows";
    Unfinished "unfinished" Ours
        "the login ended with an internal error"
        "see the step for details, and please report it as a bug";
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
