//! Setting a new password for somebody whose old one is right: by password-modify (RFC 3062), or the Active Directory way.

use super::directory::DirectorySource;
use super::pool::ServerPool;
use super::standing::Failure;
use bivector_core::login::{Answer, ChangeAnswer, Found};
use bivector_model::directory::{PASSWORD_POLICY_OID, describe_code, read_change};
use bivector_model::text::shown;
use bivector_site::DirectoryKind;
use bivector_wire::Secret;
use ldap3::controls::{Control, RawControl};
use ldap3::exop::PasswordModify;
use ldap3::{Ldap, LdapError, LdapResult, Mod};
use std::collections::HashSet;
use std::time::Instant;

/// insufficientAccessRights (RFC 4511 section 4.1.9).
const INSUFFICIENT_ACCESS: u32 = 50;

impl DirectorySource {
    /// Sets a new password. The person's own bind does it where the directory lets it; else the service account, which proves the
    /// old one beside the new.
    pub async fn change_password(&self, person: &Found, old: &Secret<String>, new: &Secret<String>) -> Answer<ChangeAnswer> {
        let mut round = self.round();
        while let Some(server) = round.next() {
            let began = Instant::now();
            match self.change_at(server, person, old, new).await {
                Ok(answer) => return round.answered(server, answer, began),
                Err(failure) => Self::failed(&mut round, server, failure, began),
            }
        }
        round.given_up(ChangeAnswer::Unavailable)
    }

    async fn change_at(
        &self,
        server: &ServerPool,
        person: &Found,
        old: &Secret<String>,
        new: &Secret<String>,
    ) -> Result<ChangeAnswer, Failure> {
        let patience = self.settings().answer_patience;
        let mut own = server.connect().await?;
        let active_directory = match self.settings().kind {
            DirectoryKind::ActiveDirectory => true,
            DirectoryKind::Generic => false,
            DirectoryKind::Auto => server.is_active_directory(&mut own, patience).await,
        };
        let lost = |error: &LdapError| Failure { sent: true, ..self.read_error(error).into() };
        let account = || self.account().map_or("nobody".to_owned(), |(dn, _)| format!("the service account {dn}"));
        let (result, who) = if active_directory {
            let mut by = server.signed_in(self.account(), patience).await?;
            (change_unicode(by.with_timeout(patience), &person.handle, old, new).await, account())
        } else {
            let bound =
                own.with_timeout(patience).simple_bind(&self.bind_name(person), old.expose()).await.map_err(|error| lost(&error))?;
            // Only one whose password has run out altogether cannot sign in to change it.
            let (mut by, who) = match bound.rc {
                0 => (own, "the person".to_owned()),
                _ => (server.signed_in(self.account(), patience).await?, account()),
            };
            let modify = PasswordModify { user_id: Some(&person.handle), old_pass: Some(old.expose()), new_pass: Some(new.expose()) };
            let control = RawControl { ctype: PASSWORD_POLICY_OID.to_owned(), crit: false, val: None };
            (by.with_timeout(patience).with_controls(control).extended(modify).await.map(|result| result.1), who)
        };
        let result = result.map_err(|error| lost(&error))?;
        let policy =
            result.ctrls.iter().find(|Control(_, raw)| raw.ctype == PASSWORD_POLICY_OID).and_then(|Control(_, raw)| raw.val.as_deref());
        let lacks = match result.rc {
            INSUFFICIENT_ACCESS => format!("; {who} lacks the permission to change this password in the directory"),
            _ => format!(" as {who}"),
        };
        let text = if result.text.is_empty() { String::new() } else { format!(": {}", shown(&result.text)) };
        let seen = format!("the change gave result {} ({}){lacks}{text}", result.rc, describe_code(result.rc));
        Ok(ChangeAnswer::from_change(read_change(result.rc, &result.text, policy), seen))
    }
}

/// Takes the old value out and puts the new one in, each in quotation marks as UTF-16: the directory checks the old one by that.
async fn change_unicode(ldap: &mut Ldap, dn: &str, old: &Secret<String>, new: &Secret<String>) -> Result<LdapResult, LdapError> {
    let quoted = |text: &Secret<String>| format!("\"{}\"", text.expose()).encode_utf16().flat_map(u16::to_le_bytes).collect::<Vec<u8>>();
    let attribute = || b"unicodePwd".to_vec();
    let mods = vec![Mod::Delete(attribute(), HashSet::from([quoted(old)])), Mod::Add(attribute(), HashSet::from([quoted(new)]))];
    ldap.modify(dn, mods).await
}
