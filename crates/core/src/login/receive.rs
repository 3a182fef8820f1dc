//! Station one: the packet, its chain, its method and its name. Nobody outside is needed for it.

use super::machine::Login;
use super::request::Credential;
use crate::cause::Cause;
use crate::moment::Moment;
use crate::site::Method;
use crate::trace::{Hop, Tone};
use bivector_wire::reads_like_text;

impl Login {
    /// The packet, the chain, the method and the name; all that needs nobody outside.
    pub(super) fn receive(&mut self, now: Moment) -> Result<String, Cause> {
        let signed = if self.request.is_signed() {
            "signed by its Message-Authenticator"
        } else {
            "not signed; this gateway may send such requests"
        };
        let gateway = self.gateway().map_or_else(String::new, |gateway| gateway.name.clone());
        let line = self.gateway().map(|gateway| gateway.line);
        let tone = if self.request.is_signed() { Tone::Good } else { Tone::Warn };
        let said = format!("Access-Request of {} bytes from {gateway} at {}, {signed}", self.request.length, self.request.sender);
        self.step(Hop::Gateway, "request", tone, now, said, line);
        if self.chain().is_none() {
            self.step(Hop::Gateway, "chain", Tone::Bad, now, format!("no chain takes logins from {gateway}"), line);
            return Err(Cause::ChainMissing);
        }
        self.check_method(now)?;
        self.read_name(now)
    }

    pub(super) fn check_method(&mut self, now: Moment) -> Result<(), Cause> {
        let line = self.chain().map(|chain| chain.line);
        let takes_pap = self.chain().is_some_and(|chain| chain.methods.contains(&Method::Pap));
        let (cause, said) = match &self.request.credential {
            Credential::Pap(_) if takes_pap => return Ok(()),
            // An unsigned request is not proved to come from somebody with our secret; noise in the password shows that it does not.
            Credential::Pap(_) => (Cause::MethodNotInChain, "the gateway used pap; the chain does not take it".to_owned()),
            Credential::Other(method) => (Cause::MethodNotInChain, format!("the gateway used {method}; the chain takes pap")),
            Credential::Unreadable(error) => (Cause::CredentialUnreadable, error.to_string()),
            Credential::None => (Cause::CredentialMissing, "there is no User-Password and no other credential".to_owned()),
        };
        self.step(Hop::Reading, "method", Tone::Bad, now, said, line);
        Err(cause)
    }

    pub(super) fn read_name(&mut self, now: Moment) -> Result<String, Cause> {
        if let Credential::Pap(text) = &self.request.credential
            && !self.request.is_signed()
            && !reads_like_text(text.expose())
        {
            let said = "the password reveals as noise, so the gateway hides it with another secret".to_owned();
            self.step(Hop::Reading, "secret", Tone::Bad, now, said, None);
            return Err(Cause::SecretDiffers);
        }
        let Some(chain) = self.chain() else { return Err(Cause::ChainMissing) };
        let line = Some(chain.identity.line).filter(|line| *line > 0);
        let shown = &self.trace.typed_name;
        match chain.identity.read(&self.request.typed_name) {
            Ok(read) => {
                let said = match &read.stripped {
                    Some(stripped) => format!("`{shown}` is `{}` once `{stripped}` is taken off", read.name),
                    None => format!("`{shown}` is looked up as `{}`", read.name),
                };
                self.step(Hop::Reading, "name", Tone::Good, now, said, line);
                Ok(read.name)
            }
            Err(cause) => {
                let said = format!("`{}`: {}", shown.escape_debug(), cause.sentence());
                self.step(Hop::Reading, "name", Tone::Bad, now, said, line);
                Err(cause)
            }
        }
    }
}
