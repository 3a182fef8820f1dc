//! The site file's reference, as one table. A test holds it against what the reader takes.

/// One key of the site file.
pub(super) struct Key {
    pub(super) section: &'static str,
    pub(super) key: &'static str,
    kind: &'static str,
    default: &'static str,
    meaning: &'static str,
}

macro_rules! keys {
    ($($section:literal { $($key:literal $kind:literal $default:literal $meaning:literal;)* })*) => {
        pub(super) const KEYS: &[Key] = &[$($(Key { section: $section, key: $key, kind: $kind, default: $default, meaning: $meaning },)*)*];
    };
}

keys! {
    "top" {
        "format" "number" "needed" "Version of this format; 1.";
        "name" "text" "`unnamed`" "What the operator calls the site.";
        "doors" "table" "needed" "Where Bivector listens.";
        "factors" "table" "" "How second factors are checked.";
        "gateways" "tables" "" "Devices that send logins.";
        "directories" "tables" "" "Sources that speak LDAP.";
        "upstreams" "tables" "" "Sources and factors that speak RADIUS.";
        "identity" "tables" "" "How typed names are read.";
        "chains" "tables" "" "Paths of logins.";
        "rules" "tables" "" "Who may pass; the first that fits decides.";
        "grants" "tables" "" "What a login gets.";
    }
    "doors" {
        "radius" "table" "needed" "The RADIUS door.";
    }
    "doors.radius" {
        "listen" "addresses" "needed" "IP addresses with ports; the port is 1812 if left out.";
        "logins_in_flight" "1 to 1000000" "8192" "Logins undecided at one time; more are dropped and counted. Each holds about 4 KiB.";
        "replies_kept" "1s to 300s" "30s" "How long a reply is kept to answer resends with the same bytes.";
    }
    "factors" {
        "totp" "table" "" "Codes by time.";
    }
    "factors.totp" {
        "window" "0 to 10" "1" "Steps before and after now in which a code is right. Each step more gives a guesser one more code.";
    }
    "gateways" {
        "name" "text" "needed" "Its name.";
        "from" "addresses, ranges or host names" "needed" "Where its packets come from. The most specific range wins. Host names are resolved again every minute.";
        "identifier" "text or texts" "not looked at" "What the device calls itself in NAS-Identifier; a request with another one is refused.";
        "labels" "table of texts" "none" "What kind of device it is and where, such as `{ kind = \"vpn\", place = \"harbour\" }`; for chains and rules.";
        "charset" "`utf-8` or `latin-1`" "`utf-8`" "How it writes names and passwords that are not ASCII.";
        "knows" "texts" "not checked" "Group names that are set up on the device; grants that name another one are warned about.";
        "secret" "name of a secret" "needed" "The shared secret, sealed with `bivector secret set`.";
        "message_authenticator" "`required` or `when-present`" "`required`" "Whether its requests must be signed.";
        "patience" "table" "" "How it resends, as set on the device.";
        "client_patience" "1s to 1h" "" "How long the person's own program waits. Kept and shown.";
        "shows_challenges" "true or false" "false" "Whether it can show a prompt and send the answer.";
        "logins_in_flight" "1 to 1000000" "4096" "Logins of this gateway undecided at one time.";
    }
    "gateways.patience" {
        "wait" "100ms to 600s" "5s" "Wait per try.";
        "tries" "1 to 20" "3" "Tries in all.";
    }
    "directories" {
        "name" "text" "needed" "Its name; `roster` is taken.";
        "servers" "`ldap://` or `ldaps://` addresses" "needed" "Its servers: the next is asked only when one cannot be reached.";
        "pool" "`order` or `balance`" "`order`" "Which server is asked first: the first that is well, or each in turn.";
        "start_tls" "true or false" "false" "Turn `ldap://` into TLS before anything is said.";
        "trust" "file" "the usual issuers" "PEM file with the issuers that are trusted, in the data folder.";
        "kind" "`auto`, `generic` or `active-directory`" "`auto`" "What kind of directory it is: how nested groups are found and a password is changed.";
        "bind_as" "table" "by DN" "What a person's bind is made as.";
        "base" "DN" "needed" "Where people are.";
        "scope" "`subtree` or `one-level`" "`subtree`" "How deep below the base.";
        "login" "attribute" "`uid`, or `sAMAccountName`" "The naming attribute.";
        "reader" "table" "anonymous" "The service account.";
        "groups" "table" "from `memberOf`" "Where groups come from.";
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
        "nested" "true or false" "false; true for `active-directory`" "Whether groups of groups count.";
    }
    "directories.patience" {
        "connect" "50ms to 60s" "2s" "For name resolution, connection and TLS of one server.";
        "answer" "50ms to 60s" "4s" "For one answer.";
    }
    "upstreams" {
        "name" "text" "needed" "Its name, as a source under `first` or a factor under `second`.";
        "servers" "addresses or names" "needed" "With a port, or 1812.";
        "pool" "`order` or `balance`" "`order`" "Which server is asked first.";
        "secret" "name of a secret" "needed" "The shared secret, sealed.";
        "source_address" "address" "the system's choice" "The address of this machine that requests leave from.";
        "patience" "table" "" "How long it is waited for.";
        "attributes" "table" "none" "What travels with a login beside name and credential.";
        "name_as" "`read` or `typed`" "`read`" "Whether the name goes up as the identity rule read it or as it was typed.";
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
        "back" "attributes" "none" "Attributes of its answer that are passed back. What EAP and MS-CHAP need always is.";
    }
    "identity" {
        "name" "text" "needed" "Its name.";
        "strip_prefix" "texts" "none" "Prefixes to take off, in any case. A name that still holds `\\\\` or `@` is refused.";
        "strip_suffix" "texts" "none" "Suffixes to take off, in any case.";
        "case" "`lower` or `keep`" "`lower`" "What happens with upper and lower case.";
    }
    "chains" {
        "name" "text" "needed" "Its name.";
        "gateways" "names" "needed, or `labels`" "Gateways whose logins it takes. Chains that share one are told apart by `ports` or `realms`, the first that fits takes the login.";
        "labels" "table of texts" "" "Takes all gateways that have these labels.";
        "ports" "texts" "all" "Only logins that came in by doors on these ports.";
        "realms" "texts" "all" "Only names typed with one of these realms or domains; an empty text stands for names without one.";
        "identity" "name" "nothing is taken off" "The identity rule.";
        "methods" "`pap`, `chap`, `ms-chap-v2`, `eap`" "`pap`" "Authentication methods it takes. All but `pap` are passed on to an upstream untouched.";
        "forms" "forms" "needed with `pap`" "How the password field is read, preferred first: `password`, `code(6)` to `code(8)`, literals in single quotes.";
        "first" "names or tables" "needed" "Sources for the first check, or `roster`. The next is asked only when one does not know the person.";
        "when_source_is_down" "`refuse` or `next`" "`refuse`" "What happens when a source cannot answer. An outage is never taken for \"no such person\".";
        "change_password" "true or false" "false" "Whether a person may set a new password at a prompt, when the old one and the code are right but the old one has expired.";
        "second" "`totp` or an upstream, or an empty list" "needed" "The second factor. An empty list lets the first check alone in, with a warning.";
        "when_unclear" "`code` or `plain`" "`code`" "Which reading counts when no code verifies: the first form with a code, or the first without.";
        "refusal_pace" "0s to 5s" "250ms" "Refusals leave at whole multiples of this after the request, so that their time tells nothing.";
    }
    "chains.first" {
        "source" "name" "needed" "The source.";
        "name" "pattern" "" "Only for names that fit; `*` stands for any text.";
        "realm" "text" "" "Only for names typed with this realm or domain.";
        "group" "name" "" "It checks the passwords of people whom a directory before it has found in this group. Upstreams only.";
    }
    "rules" {
        "name" "text" "needed" "Its name, shown in traces.";
        "chain" "name" "needed" "The chain it belongs to.";
        "when" "table" "everybody" "Whom it is about.";
        "grant" "name" "" "Let in, with this grant.";
        "refuse" "text" "" "Keep out, for this reason.";
    }
    "rules.when" {
        "group" "name or names" "all" "Members of at least one of these groups, by name or whole DN, in any case.";
        "label" "table of texts" "all" "Logins through gateways that have all of these labels.";
    }
    "grants" {
        "name" "text" "needed" "Its name.";
        "reply" "tables" "none" "Attributes of the reply, in order.";
    }
    "grants.reply" {
        "attribute" "name" "" "A standard attribute by its registered name.";
        "vendor" "number" "" "Or a vendor's private enterprise number,";
        "number" "1 to 255" "" "with the vendor's attribute number.";
        "text" "text" "" "The value; `{person.login}`, `{person.name}`, `{person.source}`, `{gateway.name}` and `{chain.name}` are filled in.";
        "integer" "0 to 4294967295" "" "Or a number,";
        "address" "IPv4 or IPv6 address" "" "or an address,";
        "hex" "hex digits" "" "or bytes.";
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
