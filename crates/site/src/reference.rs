//! The site file's reference, as one table. A test holds it against what the reader takes.

/// One key of the site file.
pub(super) struct Key {
    pub(super) section: &'static str,
    pub(super) key: &'static str,
    kind: &'static str,
    default: &'static str,
    pub(super) meaning: &'static str,
}

macro_rules! keys {
    ($($section:literal { $($key:literal $kind:literal $default:literal $meaning:literal;)* })*) => {
        pub(super) const KEYS: &[Key] = &[$($(Key { section: $section, key: $key, kind: $kind, default: $default, meaning: $meaning },)*)*];
    };
}

keys! {
    "top" {
        "format" "number" "needed" "Version of this format; 1.";
        "name" "text" "`unnamed`" "Display name of the site.";
        "time_zone" "name" "`UTC`" "The time zone in which the hours of rules are meant, such as `Europe/Oslo`.";
        "doors" "table" "needed" "Where Bivector listens.";
        "factors" "table" "" "How second factors are checked, for all chains.";
        "passwords" "table" "" "When wrong passwords make a person or a caller wait.";
        "language" "language" "`en`" "The language of prompts and messages, where neither the person's nor the gateway's is known: `en`, `de`, `fr`, or one of `texts`.";
        "handset" "table" "" "The handset page: where people approve logins on their phones.";
        "push" "table" "" "How handsets are woken by push messages.";
        "newcomers" "tables" "nothing" "Factor that new members of a group are invited to enrol.";
        "texts" "tables" "as shipped" "Custom texts, by language: `[texts.nl]`.";
        "gateways" "tables" "" "Devices that send logins.";
        "directories" "tables" "" "Sources that speak LDAP.";
        "upstreams" "tables" "" "Sources and factors that speak RADIUS.";
        "couriers" "tables" "" "Ways to send codes.";
        "issuers" "tables" "" "Whose certificates may log in, for chains with EAP methods.";
        "identity" "tables" "" "Rules that turn typed names into login names.";
        "chains" "tables" "" "Login chains: which gateways, methods, sources and factors belong together.";
        "rules" "tables" "" "Who may log in; the first matching rule decides.";
        "conditions" "tables" "" "Conditions that several rules share.";
        "grants" "tables" "" "RADIUS attributes returned on accept.";
        "filters" "tables" "" "Packet filters that grants send.";
        "pools" "tables" "" "Addresses and prefixes that grants hand out.";
        "traces" "table" "" "How long traces are kept.";
        "sessions" "table" "" "How long sessions are kept, and when a silent one counts as lost.";
        "intended" "tables" "" "Warnings of the check that are intended, one by one.";
        "personas" "tables" "" "Test identities for rehearsals.";
        "rehearsals" "tables" "" "Lists of test logins with the expected result of each.";
    }
    "intended" {
        "warning" "code of a warning" "needed" "As `bivector site check` names it.";
        "about" "name" "the only one of its code" "The name of the gateway, chain or other table that it lies in, where there are several of its code.";
        "reason" "text" "needed" "Why it is intended. The check shows this instead of warning.";
    }
    "doors" {
        "radius" "table" "needed" "The RADIUS door.";
        "eap" "table" "" "How EAP is carried out, for chains that accept EAP methods other than `eap`.";
    }
    "doors.radius" {
        "listen" "addresses" "needed" "IP addresses to listen on; default port 1812.";
        "accounting" "addresses" "none" "Addresses that receive RADIUS accounting (session start and stop); default port 1813.";
        "session_within" "1s to 600s" "60s" "How long after an accept an accounting start is expected, for gateways that send accounting. If none arrives, the login's trace says so.";
        "logins_in_flight" "1 to 1000000" "8192" "Limit of concurrent logins; more are dropped and counted. Each needs about 4 KiB.";
        "replies_kept" "1s to 300s" "30s" "How long a reply is cached to answer retransmissions identically.";
    }
    "doors.eap" {
        "certificate" "file" "none" "PEM file in the data folder: the server's certificate, followed by its issuers. Methods with a TLS tunnel need it. It is read again when it changes.";
        "key" "file" "none" "PEM file in the data folder: the certificate's private key.";
        "tls" "`1.2` or `1.3`" "`1.2`" "Oldest TLS version that is accepted.";
        "fragment" "200 to 1400" "1024" "Bytes of TLS data in one EAP packet. Smaller packets pass networks with a small MTU and need more round trips.";
        "conversations" "16 to 100000" "4096" "Limit of open EAP conversations. Beyond it, the one that has been idle longest is ended. Each needs about 30 KiB.";
        "resume" "60s to 24h" "never" "How long after an accepted login with `eap-tls` or EAP-TTLS its TLS session may be resumed without the password. The person is looked up again, and factors and rules apply; so it is only for chains without a second factor or with approvals, whose first check is not made by an upstream.";
        "idle" "10s to 600s" "60s" "How long a conversation may be without a packet before it ends as `eap-unfinished`.";
    }
    "traces" {
        "count" "1000 to 20000000" "1000000" "Maximum number of traces; the oldest are deleted. Each needs about 3 KiB on disk.";
        "time" "1d to 3650d" "no limit" "Maximum age of traces.";
        "keep_unknown_names" "true or false" "false" "Whether a typed name that nobody is known by is kept as it was typed. It may be a password in the wrong field, so otherwise only its first two characters, its length and a digest are kept, unless it resembles a known name.";
    }
    "sessions" {
        "lost_after" "60s to 30d" "24h" "How long a gateway may say nothing of a session before it counts as lost. A later report takes that back. Set it to three or four times the interval of the gateways' interim reports.";
        "count" "1000 to 20000000" "1000000" "Maximum number of sessions; the oldest that have ended are deleted. Each needs about 1 KiB on disk.";
        "time" "1d to 3650d" "no limit" "Maximum time after the end of a session.";
    }
    "factors" {
        "totp" "table" "" "Time-based codes (TOTP).";
        "hotp" "table" "" "Counter-based codes (HOTP).";
        "sent" "table" "" "Codes that couriers bring.";
        "lockout" "table" "" "When wrong codes and PINs lock a person.";
        "prompt_lasts" "1s to 1h" "2m" "How long a prompt (Access-Challenge) can be answered.";
    }
    "factors.totp" {
        "window" "0 to 10" "1" "Time steps before and after the current one in which a code is accepted. Each extra step gives an attacker two more codes to guess.";
        "drift" "0 to 100" "10" "Maximum clock drift of a device, in time steps. The drift at the last correct code is remembered, and the window is centred on it.";
    }
    "factors.hotp" {
        "look_ahead" "1 to 100" "10" "How far ahead of the expected counter a code is accepted, to allow for codes generated but not used.";
        "resync" "1 to 10000" "100" "How far ahead two consecutive codes can resynchronise a device.";
    }
    "factors.sent" {
        "digits" "6 to 10" "6" "Digits of a code.";
        "lasts" "30s to 1h" "5m" "How long it works.";
        "resends" "0 to 10" "2" "How often a code can be re-sent within one login.";
        "per_person" "1 to 1000" "10" "Codes per person and hour.";
        "per_minute" "1 to 100000" "120" "Codes per minute, for all people together.";
    }
    "factors.lockout" {
        "after" "1 to 100" "5" "Consecutive wrong codes or PINs (with a correct password, on any gateway) before a person is locked. A wrong CHAP or MS-CHAPv2 response over password and code counts as a tenth.";
        "time" "1s to 30d" "15m" "How long the lock lasts. `bivector factor release` ends it.";
    }
    "passwords" {
        "after" "2 to 1000" "10" "Wrong passwords for one person in a row, over all gateways, methods and the own page, before the source is not asked for a while. From one caller half as many.";
        "per_caller" "2 to 100000" "60" "Wrong passwords from one caller (Calling-Station-Id, or the address at the own page), for whomever, before it waits.";
        "wait" "1s to 1h" "1m" "The first wait; each further wrong password doubles it. `bivector factor release` ends it. A trusted device, or a yes on the person's own handset, passes it.";
        "longest" "1s to 7d" "1h" "The longest wait.";
        "hash" "table" "" "What a hash of a local password costs.";
    }
    "passwords.hash" {
        "memory_mib" "8 to 1024" "19" "Memory of one hash of a local password, in MiB (argon2id). `bivector doctor` measures what a hash takes here.";
        "passes" "1 to 20" "2" "Passes over that memory. Twice as many take twice as long, for a login and for whoever guesses at stolen records.";
        "at_once" "2 to 256" "the number of cores" "Hashes at the same time. Each takes a core and its memory; `bivector budget CHAIN --rush LOGINS` shows what a rush takes.";
    }
    "handset" {
        "address" "`https://` address" "none" "Where people reach the service's page: links in invitations begin with it, and security keys are bound to it. Without it there are neither links nor security keys.";
        "chain" "name" "none" "Chain used to sign in to the person's own page. Without it, the page is reachable by invitation only.";
        "shows_code" "true or false" "false" "Whether the page shows the person's own TOTP codes.";
        "confirmed_by" "`operator` or `invitation`" "`operator`" "Who confirms a new device: an operator, by typing the reference it shows, or nobody (the invitation alone is enough).";
        "invitation_lasts" "60s to 720h" "24h" "How long an invitation may be used, once.";
        "stop" "60s to 720h" "1h" "How long approvals stay stopped after the person reports \"that was not me\".";
        "per_person" "1 to 1000" "30" "Approvals for one person in an hour.";
    }
    "push" {
        "services" "hosts" "those of the common browsers" "Push services that may be asked: `push.example.net`, or `*.example.net` for all hosts below. A service on this machine is written as `http://127.0.0.1:PORT`. Nothing is ever sent to other addresses.";
        "contact" "address" "the handset page" "How a push service can reach whoever runs this service: `mailto:` or `https://`.";
        "proxy" "`http://` address" "none" "An HTTP proxy on the way to the push services.";
        "patience" "1s to 30s" "5s" "How long a push service may take to accept a message.";
        "per_person" "1 to 1000" "120" "Messages for one person in an hour, to all of the person's handsets together.";
        "key_lasts" "24h to 87600h" "4320h" "After how long a new signing key is made. A handset takes it over when its page is next opened; until then the old one is used for it.";
    }
    "newcomers" {
        "group" "name" "needed" "Applies to members of this group when an import or sync first adds them; the first matching table decides.";
        "factor" "`approval` or `totp`" "needed" "What they are invited to.";
        "send_by" "name" "handed over on screen" "The courier that brings the invitation.";
    }
    "texts.LANGUAGE" {
        "code" "text" "as shipped" "In English: “Enter the code from {devices}:”. Places: `{devices}`.";
        "pin_code" "text" "as shipped" "In English: “Enter your PIN followed by the code from {devices}:”. Places: `{devices}`.";
        "next_code" "text" "as shipped" "In English: “Almost. Wait for the next code from {devices} and enter it:”. Places: `{devices}`.";
        "upstream_code" "text" "as shipped" "In English: “Enter your code for {upstream}:”. Places: `{upstream}`.";
        "sent" "text" "as shipped" "In English: “We sent a code to {to}. Enter it here:”. Places: `{to}`.";
        "choose" "text" "as shipped" "In English: “Enter a code, or the number of an option: / {list}”. Places: `{list}`.";
        "choose_sending" "text" "as shipped" "In English: “Enter the number of an option: / {list}”. Places: `{list}`.";
        "option_code" "text" "as shipped" "In English: “code from {devices}”. Places: `{devices}`.";
        "option_text" "text" "as shipped" "In English: “text message to {to}”. Places: `{to}`.";
        "option_call" "text" "as shipped" "In English: “call to {to}”. Places: `{to}`.";
        "option_mail" "text" "as shipped" "In English: “email to {to}”. Places: `{to}`.";
        "option_upstream" "text" "as shipped" "In English: “code for {upstream}”. Places: `{upstream}`.";
        "number" "text" "as shipped" "The number to pick on the handset, with `{number}`.";
        "option_approval" "text" "as shipped" "An approval, in the list.";
        "option_key" "text" "as shipped" "A security key, in the list.";
        "push_title" "text" "as shipped" "In English: “{site}: are you signing in?”. Places: `{site}`.";
        "push_body" "text" "as shipped" "In English: “{name} ({login}) through {gateway}, from {from}”. Places: `{name}`, `{login}`, `{gateway}`, `{from}`.";
        "push_from_unknown" "text" "as shipped" "In English: “an unknown place”.";
        "push_open" "text" "as shipped" "In English: “Open to approve”.";
        "push_deny" "text" "as shipped" "In English: “Deny”.";
        "push_test_title" "text" "as shipped" "In English: “Test from {site}”. Places: `{site}`.";
        "push_test_body" "text" "as shipped" "In English: “Tap here to confirm that this phone shows notifications.”.";
        "wake_message" "text" "as shipped" "In English: “{site}: somebody is signing in with your name through {gateway}. Open on your phone to answer: {link}”. Places: `{site}`, `{gateway}`, `{link}`.";
        "page" "table of texts" "as shipped" "Texts of the handset page, by the English text that each replaces: `{ \"Deny\" = \"Weigeren\" }`.";
        "wake_subject" "text" "as shipped" "In English: “Sign-in request from {site}”. Places: `{site}`.";
        "unanswered" "text" "as shipped" "Said before the next prompt, when nobody answered an approval.";
        "enrol" "text" "as shipped" "The key of a new authenticator app, with `{key}` and `{site}`.";
        "invitation" "text" "as shipped" "An invitation, with `{name}`, `{site}`, `{link}`, `{code}` and `{hours}`.";
        "invitation_subject" "text" "as shipped" "The subject of an invitation by mail, with `{site}`.";
        "wrong" "text" "as shipped" "In English: “That was not correct.”";
        "not_sent" "text" "as shipped" "In English: “The code could not be sent.”";
        "no_more" "text" "as shipped" "In English: “No more codes can be sent right now.”";
        "new_password" "text" "as shipped" "In English: “Your password has expired. Enter a new password:”.";
        "new_password_again" "text" "as shipped" "In English: “Repeat the new password:”.";
        "not_taken" "text" "as shipped" "In English: “Password not accepted: {why}. Enter another one:”. Places: `{why}`.";
        "message" "text" "as shipped" "In English: “{code} is your sign-in code for {site}. Valid for {minutes} minutes.” Places: `{code}`, `{site}`, `{minutes}`.";
        "subject" "text" "as shipped" "In English: “Sign-in code for {site}”. Places: `{site}`.";
        "refused" "text" "as shipped" "In English: “Sign-in failed. Reference {reference}”. Places: `{reference}`.";
    }
    "gateways" {
        "name" "text" "needed" "Its name.";
        "from" "addresses, ranges or host names" "needed" "Source addresses of its packets. The most specific range wins. Host names are re-resolved every minute.";
        "identifier" "text or texts" "not looked at" "Expected NAS-Identifier; a request with another one is refused.";
        "labels" "table of texts" "none" "What kind of device it is and where, such as `{ kind = \"vpn\", place = \"harbour\" }`; for chains and rules.";
        "charset" "`utf-8` or `latin-1`" "`utf-8`" "Character set of names and passwords it sends.";
        "fields" "`one` or `scrv1`" "`one`" "Whether its people's program has one field for password and code, or two that it sends in one as `SCRV1:…` (and answers to prompts as `CRV1:…`).";
        "knows" "texts" "not checked" "Group names configured on the device; the site check warns about grants that use others.";
        "secret" "name of a secret" "needed" "The shared secret, sealed with `bivector secret set`.";
        "message_authenticator" "`required` or `when-present`" "`required`" "Whether its requests must carry Message-Authenticator.";
        "patience" "table" "" "Its timeout and retries, as configured on the device.";
        "client_patience" "1s to 1h" "" "Timeout of the client program (for example the VPN client). For information and the budget only.";
        "shows_challenges" "true or false" "false" "Whether it supports Access-Challenge: shows the prompt and returns the answer.";
        "shows_refusals" "true or false" "not stated" "Whether it shows the text of a refusal, with its reference, to the person. Kept for the handover sheet.";
        "joins_without_caller" "true or false" "false" "Whether a second login of somebody joins the approval that waits, although the gateway sends no Calling-Station-Id and so nothing tells the two logins apart. Otherwise it is refused as busy.";
        "language" "language" "the site's" "The language of its people, where a person's own is not known.";
        "prompt_limit" "40 to 3000" "253" "Maximum prompt length in bytes; longer prompts are truncated.";
        "session_class" "true or false" "true" "Whether Access-Accept carries a further Class attribute, after those of the grant, that leads from a session back to its login. Switch it off for gateways that treat every Class as a group; their sessions are matched by name, caller and time.";
        "dynamic_authorization" "table" "" "Where it takes Disconnect-Request and CoA-Request (RFC 5176), if it does.";
        "logins_in_flight" "1 to 1000000" "4096" "Logins of this gateway undecided at one time.";
    }
    "gateways.dynamic_authorization" {
        "to" "address and port" "needed" "Where the gateway listens; the port is 3799 unless another is given.";
        "secret" "name of a secret" "the gateway's `secret`" "The shared secret of these requests, if it is another one.";
    }
    "gateways.patience" {
        "wait" "100ms to 600s" "5s" "Wait per try.";
        "tries" "1 to 20" "3" "Total number of tries, including the first.";
        "servers" "1 to 8" "1" "Number of RADIUS servers configured on the device: after its tries it fails over to the next one, where the login starts over.";
    }
    "directories" {
        "name" "text" "needed" "Its name; `roster` is taken.";
        "servers" "`ldap://` or `ldaps://` addresses" "needed" "Its servers: the next is asked only when one cannot be reached.";
        "pool" "`order` or `balance`" "`order`" "Server selection: the first healthy one in order, or round robin.";
        "start_tls" "true or false" "false" "Upgrade `ldap://` to TLS (StartTLS) before anything else is sent.";
        "trust" "file" "the usual issuers" "PEM file with trusted CA certificates, in the data folder.";
        "kind" "`auto`, `generic` or `active-directory`" "`auto`" "Directory type; determines how nested groups are found and passwords are changed.";
        "bind_as" "table" "by DN" "Name form used to bind as a person.";
        "base" "DN" "needed" "Search base for people.";
        "scope" "`subtree` or `one-level`" "`subtree`" "How deep below the base.";
        "login" "attribute or attributes" "`uid`, or `sAMAccountName`" "The naming attributes. People may type the value of any; the first one's value is the login name that they are known by.";
        "reader" "table" "anonymous" "Service account for searches.";
        "groups" "table" "from `memberOf`" "Where groups come from.";
        "attributes" "table" "" "Attributes of people beside name and groups.";
        "patience" "table" "" "Time limits.";
        "connections" "1 to 256" "16" "Connections per server for checking passwords.";
    }
    "directories.reader" {
        "dn" "DN" "needed" "Its DN.";
        "secret" "name of a secret" "needed" "Its password, sealed.";
    }
    "directories.bind_as" {
        "principal" "realm" "" "As `name@realm`,";
        "domain" "text" "" "or as `DOMAIN\\\\name`.";
    }
    "directories.groups" {
        "from" "attribute, or `search`" "`memberOf`" "The attribute of the person's entry that lists groups; or search for groups.";
        "base" "DN" "needed with `search`" "Where groups are.";
        "member" "attribute" "`member`" "The attribute of a group that lists its members, with `search`.";
        "nested" "true or false" "false; true for `active-directory`" "Whether nested groups are resolved.";
    }
    "directories.attributes" {
        "mail" "attribute" "`mail`" "Where codes by mail go.";
        "phone" "attribute" "`mobile`" "Where codes by text message and voice go.";
        "language" "attribute" "`preferredLanguage`" "The language that the person reads.";
        "nt_hash" "attribute" "not read" "Attribute with the password's NT hash (16 bytes or 32 hex digits), needed for MS-CHAPv2. Anyone who can read it can log in with it.";
    }
    "directories.patience" {
        "connect" "50ms to 60s" "2s" "For name resolution, connection and TLS of one server.";
        "answer" "50ms to 60s" "4s" "For one answer.";
        "hedge" "50ms to `answer`" "500ms, at most half of `answer`" "How long one server may keep a search or a connection waiting before the next one is asked too. The first answer counts, and a server that was overtaken is asked after the others until a look finds it quick. A password is sent to one server only.";
    }
    "upstreams" {
        "name" "text" "needed" "Its name, as a source under `first` or a factor under `second`.";
        "servers" "addresses or names" "needed" "With a port, or 1812.";
        "pool" "`order` or `balance`" "`order`" "Which server is asked first.";
        "secret" "name of a secret" "needed" "The shared secret, sealed.";
        "source_address" "address" "the system's choice" "The address of this machine that requests leave from.";
        "patience" "table" "" "Timeouts and tries.";
        "attributes" "table" "none" "Attributes forwarded in addition to name and credential.";
        "name_as" "`read` or `typed`" "`read`" "Which name is sent: as read by the identity rule, or as typed.";
        "groups_from" "attribute" "none" "The attribute of its accept that names the person's groups, for rules.";
        "message_authenticator" "`required` or `when-present`" "`required`" "Whether its replies must be signed.";
        "status_checks" "true or false" "true" "Whether it is asked for its state with Status-Server.";
    }
    "upstreams.patience" {
        "wait" "50ms to 600s" "3s" "Wait per try.";
        "tries" "1 to 20" "2" "Tries per server.";
    }
    "upstreams.attributes" {
        "up" "attributes" "none" "Attributes of the gateway's request that are passed up.";
        "back" "attributes" "none" "Attributes of its reply that are passed to the gateway. Those needed for EAP and MS-CHAP always are.";
    }
    "couriers" {
        "name" "text" "needed" "Its name, as a factor under `second`.";
        "carries" "`text`, `call` or `mail`" "needed" "What it carries codes by: a text message, a call, a mail.";
        "url" "URL" "needed, or `server`" "Where an HTTP call goes.";
        "server" "`smtp://` or `smtps://` address" "needed, or `url`" "The mail server.";
        "start_tls" "true or false" "false" "Turn `smtp://` into TLS before anything is said.";
        "from" "mail address" "needed with `server`" "The sender.";
        "account" "text" "none" "The account to sign in to the mail server with; its password is the secret.";
        "secret" "name of a secret" "none" "The sealed secret, for `{secret}` or for the account.";
        "trust" "file" "the usual issuers" "PEM file with trusted CA certificates, in the data folder.";
        "patience" "100ms to 60s" "5s" "How long one delivery may take.";
        "headers" "table of texts" "none" "Headers, such as `{ Authorization = \"Bearer {secret}\" }`.";
        "body" "template" "`{\"to\": \"{to}\", \"text\": \"{text}\"}`" "The body, with `{to}`, `{text}`, `{code}`, `{name}` and `{secret}`; values are escaped for JSON and for forms.";
        "content_type" "text" "`application/json`" "Its type; `application/x-www-form-urlencoded` for a form.";
    }
    "identity" {
        "name" "text" "needed" "Its name.";
        "strip_prefix" "texts" "none" "Prefixes to remove, case-insensitively. A name that still contains `\\\\` or `@` is refused.";
        "strip_suffix" "texts" "none" "Suffixes to remove, case-insensitively.";
        "realms" "texts" "none" "Realms that are part of people's names, as principal names and mail addresses have them: such a name is looked up whole.";
        "case" "`lower` or `keep`" "`lower`" "What happens with upper and lower case.";
        "aliases" "table of texts" "none" "Other names of people, each with the name that sources know: `{ \"i.okafor\" = \"ines\" }`.";
    }
    "issuers" {
        "name" "text" "needed" "Its name.";
        "trust" "file" "needed" "PEM file in the data folder with the certificates that are trusted: root and intermediates.";
        "name_from" "`principal`, `mail`, `uri`, `common-name`" "`mail`" "The name in a certificate that says whose it is: user principal name, mail address or URI among the alternative names, or the common name of the subject. The chain's identity rule is applied to it, and the sources are asked for the result.";
        "belong_to" "`people` or `devices`" "`people`" "Whether its certificates belong to people or to devices. A device's certificate is only accepted beside a password.";
        "same_person" "true or false" "true" "Whether a certificate and the password beside it must belong to the same person.";
        "revocation" "files and addresses" "none" "Revocation lists (CRLs): files in the data folder, or `http` and `https` addresses.";
        "ocsp" "`certificate` or an address" "none" "The OCSP responder that is asked whether a certificate is revoked: the one that the certificate names, or the one at an `http` or `https` address. The first login with a certificate waits for it, at most 3 seconds; after that it is asked in the background. With `revocation`, both must have nothing against the certificate.";
        "when_unknown" "`refuse` or `accept`" "`refuse`" "Whether a certificate is accepted while no current revocation list or OCSP response says anything about it.";
        "refresh" "60s to 168h" "1h" "How often the lists are read again, in the background, and how old an OCSP response gets before the responder is asked again.";
        "key_bits" "1024 to 16384" "2048" "Bits of an RSA key, at least.";
    }
    "chains" {
        "name" "text" "needed" "Its name.";
        "gateways" "names" "needed, or `labels`" "Gateways whose logins it accepts. Chains that share a gateway are separated by `ports` or `realms`; the first match takes the login.";
        "labels" "table of texts" "" "Takes all gateways that have these labels.";
        "ports" "texts" "all" "Only logins received on these ports.";
        "realms" "texts" "all" "Only names typed with one of these realms or domains; an empty text stands for names without one.";
        "identity" "name" "nothing is taken off" "The identity rule.";
        "methods" "names of methods" "`pap`" "Authentication methods it accepts: `pap`, `chap`, `ms-chap-v2`, `eap` (forwarded to an upstream), and EAP methods that are carried out here, such as `eap-ttls-pap`; the order is that in which they are offered. [methods.md](methods.md) shows which work with which source.";
        "issuers" "names" "none" "Issuers whose certificates it accepts. With `eap-tls` the certificate is the first check; with EAP-TTLS and PEAP one is required beside the password.";
        "forms" "forms" "needed with `pap`" "How the password field is read, preferred first: `password`, `code(6)` or `code(6..8)`, `pin(4..6)` before a code, `factor` for a factor word, literals in single quotes.";
        "first" "names or tables" "needed" "Sources for the first check, or `roster`. The next is asked only when one does not know the person.";
        "when_source_is_down" "`refuse` or `next`" "`refuse`" "What to do when a source cannot answer. An outage is never treated as \"no such person\".";
        "change_password" "true or false" "false" "Whether a person may set a new password at a prompt, when the old one and the code are right but the old one has expired.";
        "second" "factors, or an empty list" "needed" "Second factors, preferred first: `totp`, `hotp`, `recovery`, `temporary`, `approval`, `key`, couriers, an upstream. With an empty list the first check alone is enough (the site check warns).";
        "words" "table of texts" "what each courier carries; `approve`, `key`" "Words that choose a courier or an approval: `{ pager = [\"sms\", \"text\"] }`. For forms with `factor`, and at prompts.";
        "when_several" "`list` or `first`" "`list`" "At a prompt, for people with several factors: choose from a numbered list, or be asked for the first.";
        "when_second_is_down" "`refuse`, `next` or `first-only`" "`refuse`" "What happens when a courier or upstream cannot be asked: refuse, ask for another factor, or let the first check alone in (warned about, counted, marked in every such trace).";
        "second_patience" "5s to 600s" "45s" "How long an approval may take.";
        "wake" "names" "`push`, with an `address`" "What tells people that an approval waits: `push` for a notification, or couriers for a message with a link. The first at once, each further one if no notification was shown within `wake_after`. With an empty list only a page that is open shows it.";
        "wake_after" "1s to 60s" "8s" "How long a notification may take to be shown before the next of `wake` is tried.";
        "match_number" "true or false" "true" "Number matching: the prompt shows a number that must be picked on the handset. Only on gateways that show prompts.";
        "when_unanswered" "`refuse` or `next`" "`refuse`" "What happens when nobody answers an approval: refuse, or ask for another factor where the gateway shows prompts.";
        "when_not_enrolled" "`refuse`, `enrol` or `let-in`" "`refuse`" "What happens to people without any factor: refuse; enrol an authenticator app within the login, where the gateway shows prompts; or let the first check alone in until a date (warned about).";
        "let_in_until" "date" "needed with `let-in`" "The last day (UTC) on which people without a factor get in, such as `2027-03-31`.";
        "remember" "60s to 2160h" "never" "How long a client device (by Calling-Station-Id) is remembered on the same gateway after a second factor, so that it needs none. Not in rehearsals.";
        "waive" "tables" "nobody" "Who is let in without a second factor, each with a reason.";
        "code_only" "true or false" "false" "The gateways check passwords themselves, so only the code is checked here. Warned about.";
        "retry" "true or false" "false" "Whether an MS-CHAPv2 failure allows an immediate retry (R=1, RFC 2759 section 6).";
        "when_unclear" "`code` or `plain`" "`code`" "Which reading is used when no code is valid: the first form with a code, or the first without.";
        "refusal_pace" "0s to 5s" "250ms" "Refusals are sent at multiples of this interval after the request, so that their timing reveals nothing.";
    }
    "chains.first" {
        "source" "name" "needed" "The source.";
        "name" "pattern" "" "Only for names that fit; `*` stands for any text.";
        "realm" "text" "" "Only for names typed with this realm or domain.";
        "group" "name" "" "It checks the passwords of people whom a directory before it has found in this group. Upstreams only.";
    }
    "chains.waive" {
        "network" "addresses or ranges" "" "For clients whose address (Calling-Station-Id) is in one of these;";
        "group" "names" "" "or for members of one of these groups;";
        "person" "patterns" "" "or for these login names; `*` stands for any text.";
        "reason" "text" "needed" "Why, for every trace.";
    }
    "rules" {
        "name" "text" "needed" "Its name, shown in traces.";
        "chain" "name" "needed" "The chain it belongs to.";
        "when" "table" "everybody" "Whom the rule matches.";
        "grant" "name" "" "Accept, with this grant.";
        "refuse" "text" "" "Refuse, with this reason.";
    }
    "conditions" {
        "name" "text" "needed" "Its name.";
        "when" "table" "needed" "What must hold, as in `when` of a rule. It may use conditions before it.";
    }
    "rules.when" {
        "group" "name or names" "all" "Members of at least one of these groups, by name or whole DN, in any case.";
        "label" "table of texts" "all" "Logins through gateways that have all of these labels.";
        "name" "text or texts" "" "Matches login names like one of these; `*` stands for any text.";
        "realm" "text or texts" "" "Matches names typed with one of these realms; an empty text stands for a name without a realm.";
        "source" "text or texts" "" "Matches people found in one of these sources.";
        "method" "text or texts" "" "Matches logins by one of these authentication methods.";
        "factor" "text or texts" "" "Matches logins with one of these second factors, such as `totp` or `approval`; `waived` where none was asked for, `none` where the chain requires none.";
        "from" "ranges" "" "Matches clients in one of these networks. The gateway must send the client's address in Calling-Station-Id.";
        "gateway" "text or texts" "" "Matches logins through one of these gateways.";
        "hours" "text or texts" "" "Matches logins at these times in the site's `time_zone`, such as `Mon-Fri 07:00-19:00` or `22:00-06:00`.";
        "nas" "table of lists" "" "Matches logins for which the gateway sent one of these attribute values: `{ Service-Type = [\"Framed-User\"] }`, written as the trace shows them. Only attributes that a trace records can be used.";
        "issuer" "text or texts" "" "Matches certificates from one of these issuers.";
        "condition" "text or texts" "" "Names conditions in `[[conditions]]`, all of which must match.";
        "not" "table" "" "Takes the same keys, which must not all match.";
    }
    "grants" {
        "name" "text" "needed" "Its name.";
        "reply" "tables" "none" "Attributes of the reply, in order.";
        "filter" "name" "none" "A filter that is sent too.";
        "pool" "name or names" "none" "Pools that an address or a prefix is taken from. A person keeps the same one where possible; it is free again when the session ends.";
        "sessions" "table" "" "How many sessions a person may have at a time. Gateways have to report their sessions.";
    }
    "grants.sessions" {
        "most" "1 to 1000000" "needed" "The most.";
        "beyond" "`refuse` or `end-oldest`" "`refuse`" "Whether a login beyond that is refused, or the person's oldest session is ended for it (which its gateway must allow, see `dynamic_authorization`).";
    }
    "filters" {
        "name" "text" "needed" "Its name.";
        "send" "`name` or `rules`" "`name`" "Whether its name is sent as Filter-Id, for gateways that have the lines, or its lines as NAS-Filter-Rule (RFC 4849).";
        "vendor" "table" "" "Or each line is sent in an attribute of a vendor: `{ id = 32473, number = 2 }`.";
        "lines" "texts" "none" "Its lines, such as `permit in ip from assigned to 10.20.0.0/16` (RFC 6733 section 4.3.1); `in` is from the user.";
    }
    "filters.vendor" {
        "id" "number" "needed" "The vendor's private enterprise number.";
        "number" "1 to 255" "needed" "The vendor's attribute number.";
    }
    "pools" {
        "name" "text" "needed" "Its name.";
        "ranges" "ranges" "needed" "Its addresses, as networks. No other pool may have them.";
        "gives" "`addresses`, `prefixes`, `delegated-prefixes`" "`addresses`" "What it hands out: Framed-IP-Address or Framed-IPv6-Address, Framed-IPv6-Prefix, or Delegated-IPv6-Prefix.";
        "length" "1 to 128" "64" "Bits of each prefix.";
        "lasts" "60s to 30d" "24h" "How long a lease lasts whose session no gateway reports.";
    }
    "grants.reply" {
        "attribute" "name" "" "A standard attribute by its registered name.";
        "vendor" "number" "" "Or a vendor's private enterprise number,";
        "number" "1 to 255" "" "with the vendor's attribute number.";
        "text" "text" "" "The value; `{person.login}`, `{person.name}`, `{person.source}`, `{gateway.name}` and `{chain.name}` are filled in.";
        "integer" "0 to 4294967295" "" "Or a number,";
        "address" "IPv4 or IPv6 address" "" "or an address,";
        "prefix" "IPv6 prefix" "" "or a prefix,";
        "hex" "hex digits" "" "or bytes.";
        "by_group" "tables" "" "Or the text of the first of these groups that the person is in,";
        "otherwise" "text" "none" "and the text for everybody else; without it they do not get the attribute.";
        "tag" "1 to 31" "none" "Tag of a tunnel attribute (RFC 2868): attributes with the same tag belong together.";
    }
    "grants.reply.by_group" {
        "group" "text" "needed" "A group.";
        "text" "text" "needed" "The text for its members, with placeholders.";
    }
    "personas" {
        "name" "text" "needed" "Its name in rehearsals.";
        "login" "text" "its name" "What it types as its name.";
        "password" "name of a secret" "none" "Its password, sealed.";
        "token" "true or false" "false" "Use a simulated token that is valid only in rehearsals; it always has an unused code.";
        "seed" "name of a secret" "none" "Or it uses an enrolled device: the sealed seed in base32 (six digits every 30 s). A run waits for the next code where all are used.";
        "code" "name of a secret" "none" "Or its code never changes, as with old hardware behind an upstream.";
        "certificate" "name of a secret" "none" "Its certificate, followed by its key, as PEM.";
        "handset" "true or false" "false" "A simulated handset answers approvals of its rehearsed logins; the person's real handsets are not asked.";
    }
    "rehearsals" {
        "name" "text" "needed" "Its name.";
        "logins" "tables" "needed" "The logins, in report order.";
    }
    "rehearsals.logins" {
        "persona" "name" "needed" "Who logs in.";
        "via" "name" "needed" "The gateway.";
        "title" "text" "persona and gateway" "What it shows, in a few words.";
        "name" "text" "the persona's login" "What is typed as the name.";
        "method" "name of a method" "`pap`" "How the credential is sent; `eap` is only started, to see that it is refused.";
        "outer" "text" "the name" "With an EAP method: the identity outside the tunnel.";
        "certificate" "`none` or name of a persona" "its own" "With an EAP method: whose certificate the device shows.";
        "sessions" "number" "0" "Open sessions that the person is said to have already, for the limit of the grant.";
        "type" "text" "needed, but with `eap-tls`" "What is typed in the password field, with placeholders: `{password}`, `{wrong-password}`, `{code}`, `{code+1}` for the next one, `{wrong}` for a code that is nobody's.";
        "answers" "texts" "none" "What is typed at each prompt; `{sent}` is the code that a courier has just carried.";
        "handset" "text" "ignore" "What the simulated handset does: `approve`, `deny`, `ignore`, `wrong-number`, also `approve after 3s`. Its page is open, unless the phone is in a pocket: `asleep 3s, approve` shows a push message after three seconds, `push refused, approve` shows none and waits for a message with a link.";
        "twist" "word" "none" "What is wrong on purpose: `wrong-secret`, `stranger`, `same-again`, `late-answer`, `foreign-answer`, `locked`, `old-tls`.";
        "waits" "table" "the site's" "Shorter timeouts for this login, to save time.";
        "caller" "text" "none" "What the gateway tells in Calling-Station-Id.";
        "expect" "table" "an accept" "Expected result.";
    }
    "rehearsals.logins.waits" {
        "prompt" "100ms to 600s" "the site's" "How long a prompt (Access-Challenge) can be answered.";
        "approval" "100ms to 600s" "the chain's" "How long an approval may take.";
    }
    "rehearsals.logins.expect" {
        "outcome" "`accept`, `refuse`, `challenge`, `silence`" "`accept`, or by the cause" "How it ends.";
        "cause" "cause" "any" "Why, where it does not end well.";
        "grant" "name" "any" "The grant.";
        "attributes" "texts" "any" "Attributes that the reply carries, such as `Class = control-room`.";
        "absent" "names" "none" "Attributes that it does not carry.";
        "factor" "name" "any" "The second factor that was really given. One that was remembered or waived never counts.";
        "source" "name" "any" "The source that knew the person.";
        "within" "1ms to 600s" "any" "Maximum duration, excluding the simulated handset's own delay.";
    }
}

/// The reference page in Markdown. `docs/site-file.md` holds it; a test keeps the two alike.
pub fn reference_markdown() -> String {
    let mut page = String::from(
        "# The site file\n\nEverything that is configured, as one TOML document. This page is generated from the reader's own table \
         (`bivector site reference`).\nDurations are text with a unit: `\"250ms\"`, `\"20s\"`, `\"5m\"`, `\"1h\"`. Unknown keys are errors.\n",
    );
    let mut section = "";
    for key in KEYS {
        if key.section != section {
            section = key.section;
            let title = if section == "top" { "Top level".to_owned() } else { format!("`{section}`") };
            page.push_str(&format!("\n## {title}\n\n| key | value | default | meaning |\n| --- | --- | --- | --- |\n"));
        }
        page.push_str(&format!("| `{}` | {} | {} | {} |\n", key.key, key.kind, key.default, key.meaning.replace("\\\\", "\\")));
    }
    page
}
