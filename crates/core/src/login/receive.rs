//! Station one: the packet, its chain, its method and its name. Nobody outside is needed for it.

use super::machine::{Login, told};
use super::packed::format_of;
use super::request::{Context, Credential, Proof, Protocol, VerifiedCertificate, decode, is_placeholder};
use bivector_model::cause::Cause;
use bivector_model::identity::realm_of;
use bivector_model::moment::Moment;
use bivector_model::text::shown;
use bivector_model::trace::{Hop, Tone};
use bivector_site::{Charset, SourceRef};
use bivector_wire::{AttributeType, reads_like_text};
use std::net::IpAddr;

impl Login {
    /// The packet, the chain, the method and the name; all that needs nobody outside.
    pub(super) fn receive(&mut self, now: Moment) -> Result<(), Cause> {
        let line = self.gateway().map(|gateway| gateway.line);
        let tone = if self.request.is_signed() { Tone::Good } else { Tone::Warn };
        let said = if self.quiet { String::new() } else { self.request_in_words() };
        self.step(Hop::Gateway, "request", tone, self.opened, said, line);
        if let Some(inside) = self.request.inside.as_ref().filter(|_| !self.quiet) {
            self.trace.steps.extend(inside.steps.iter().cloned());
            self.last = now;
        }
        if self.chain().is_none() {
            let elsewhere = self.gateway().is_some_and(|gateway| !gateway.chains.is_empty());
            let said = match elsewhere {
                true => format!("no chain of {} matches this port and realm", self.gateway_name()),
                false => format!("no chain accepts logins from {}", self.gateway_name()),
            };
            self.step(Hop::Gateway, "chain", Tone::Bad, now, said, line);
            return Err(Cause::ChainMissing);
        }
        self.check_device(now)?;
        self.check_method(now)?;
        if let Some(said) = self.certificate().map(|certificate| certificate.said.clone()) {
            self.step(Hop::First, "certificate", Tone::Good, now, said, line);
        }
        self.check_field(now)?;
        self.read_name(now)
    }

    /// The certificate that the peer has shown, if it has.
    pub(super) fn certificate(&self) -> Option<&VerifiedCertificate> {
        self.request.inside.as_ref()?.certificate.as_deref()
    }

    /// What came in, from where, and how it was proved.
    fn request_in_words(&self) -> String {
        let Context { length, sender, .. } = &self.request.context;
        match (self.request.protocol(), self.request.is_signed()) {
            (Protocol::Page, _) => format!("a sign-in at the {}, from {}", self.gateway_name(), sender.ip()),
            (Protocol::Radius, signed) => {
                let signed = if signed { "signed by its Message-Authenticator" } else { "not signed (allowed for this gateway)" };
                format!("Access-Request of {length} bytes from {} at {sender}, {signed}", self.gateway_name())
            }
        }
    }

    /// What the device says of itself, against what the site says of the gateway.
    fn check_device(&mut self, now: Moment) -> Result<(), Cause> {
        let Some(gateway) = self.gateway() else { return Ok(()) };
        let line = Some(gateway.line);
        let context = &self.request.context;
        let identifier = context.first(AttributeType::NasIdentifier).and_then(|own| std::str::from_utf8(own).ok());
        if let Some(identifier) =
            identifier.filter(|own| !gateway.identifiers.is_empty() && !gateway.identifiers.iter().any(|one| one == own))
        {
            let said = format!("NAS-Identifier is `{}`; {} expects {}", shown(identifier), gateway.name, gateway.identifiers.join(" or "));
            self.step(Hop::Gateway, "device", Tone::Bad, now, said, line);
            return Err(Cause::DeviceDiffers);
        }
        let address = context.first(AttributeType::NasIpAddress).and_then(|own| <[u8; 4]>::try_from(own).ok()).map(IpAddr::from);
        let owner = address.and_then(|address| self.site.gateway_at(address));
        if let (Some(address), Some(owner)) = (address, owner.filter(|owner| *owner != context.gateway)) {
            let owner = self.site.gateways.get(owner).map_or("?", |gateway| gateway.name.as_str());
            let said = format!("NAS-IP-Address is {address}, which belongs to {owner}, but the packet came from {}", context.sender.ip());
            self.step(Hop::Gateway, "device", Tone::Warn, now, said, line);
        }
        Ok(())
    }

    fn check_method(&mut self, now: Moment) -> Result<(), Cause> {
        let line = self.chain().map(|chain| chain.line);
        if let Credential::Failed(cause, said) = &self.request.credential {
            let (cause, said) = (*cause, said.clone());
            self.step(Hop::Gateway, "eap", Tone::Bad, now, said, line);
            return Err(cause);
        }
        let methods = self.chain().map_or(&[][..], |chain| &chain.methods);
        // The answer to a prompt comes as text, whatever method the login began with.
        let answers = self.request.state.is_some() && matches!(self.request.credential, Credential::Text(_));
        let taken = self.request.known_method().is_some_and(|method| methods.contains(&method)) || answers;
        let (cause, said) = match &self.request.credential {
            Credential::Unreadable(_, why) if taken => (Cause::CredentialUnreadable, why.clone()),
            _ if taken => return Ok(()),
            Credential::Several(names) => (Cause::CredentialSeveral, format!("the request carries {}", names.join(", "))),
            Credential::None => (Cause::CredentialMissing, "the request has no User-Password or other credential".to_owned()),
            other => {
                let taken: Vec<&str> = methods.iter().map(|method| method.name()).collect();
                let eap = matches!(other, Credential::Proof { proof: Proof::Eap, .. })
                    .then(|| format!("; no EAP method is among them, and the peer {}", self.request.peer_wants()))
                    .unwrap_or_default();
                let said = format!("the gateway used {}; the chain accepts {}{eap}", self.request.method(), taken.join(", "));
                (Cause::MethodNotInChain, said)
            }
        };
        self.step(Hop::Reading, "method", Tone::Bad, now, said, line);
        Err(cause)
    }

    /// What the password field cannot be, whoever the person is.
    fn check_field(&mut self, now: Moment) -> Result<(), Cause> {
        if let Credential::Text(text) = &self.request.credential
            && is_placeholder(text.expose())
        {
            let said = "the password is what an SSH server sends for names that have no account on its machine";
            self.step(Hop::Reading, "password field", Tone::Bad, now, said.to_owned(), self.gateway().map(|gateway| gateway.line));
            return Err(Cause::DeviceAccountMissing);
        }
        // An upstream may know the format; a directory would only count it as a wrong password.
        if let Credential::Text(text) = &self.request.credential
            && let Some(format) = format_of(text.expose())
            && self.chain().is_some_and(|chain| chain.first.iter().any(|first| !matches!(first.source, SourceRef::Upstream(_))))
        {
            let said = format!("the field holds two, packed as {format}; `{}` does not say `fields = \"scrv1\"`", self.gateway_name());
            self.step(Hop::Reading, "password field", Tone::Bad, now, said, self.gateway().map(|gateway| gateway.line));
            return Err(Cause::FieldsNotRead);
        }
        if let Credential::Text(text) = &self.request.credential
            && !self.request.is_signed()
            && !self.charset_text(text).is_some_and(|text| reads_like_text(text.expose().as_bytes()))
        {
            let (cause, said) = match self.request.context.secret_proved {
                true => (
                    Cause::PasswordUnreadable,
                    "the password reveals as noise, although other packets of this gateway prove its secret right",
                ),
                false => (Cause::SecretDiffers, "the password decrypts to random bytes, so the gateway uses a different shared secret"),
            };
            self.step(Hop::Reading, "secret", Tone::Bad, now, said.to_owned(), None);
            return Err(cause);
        }
        Ok(())
    }

    fn read_name(&mut self, now: Moment) -> Result<(), Cause> {
        let Some(chain) = self.chain() else { return Err(Cause::ChainMissing) };
        let line = Some(chain.identity.line).filter(|line| *line > 0);
        let charset = self.charset();
        let typed = decode(&self.request.typed_name, charset).map(String::into_bytes);
        let typed = typed.as_deref().unwrap_or(&self.request.typed_name);
        match chain.identity.read(typed) {
            Ok(read) => {
                let shown = &self.trace.typed_name;
                let said = match &read.stripped {
                    Some(stripped) => told!(self, "`{shown}` is looked up as `{}`, without `{stripped}`", read.name),
                    None => told!(self, "`{shown}` is looked up as `{}`", read.name),
                };
                let said = match &read.alias {
                    Some(alias) => told!(self, "{said} (alias `{alias}`)"),
                    None => said,
                };
                self.realm = std::str::from_utf8(typed).map(realm_of).unwrap_or_default();
                self.step(Hop::Reading, "name", Tone::Good, now, said, line);
                self.name = read.name;
                Ok(())
            }
            Err(cause) => {
                let hint = match std::str::from_utf8(&self.request.typed_name) {
                    Err(error) => format!(
                        "; byte {} is not valid UTF-8; read as Latin-1 it is `{}`",
                        error.valid_up_to() + 1,
                        shown(&decode(&self.request.typed_name, Charset::Latin1).unwrap_or_default())
                    ),
                    Ok(_) => String::new(),
                };
                let said = format!("`{}`: {}{hint}", shown(&self.typed_name()), cause.sentence());
                self.step(Hop::Reading, "name", Tone::Bad, now, said, line);
                Err(cause)
            }
        }
    }
}
