//! Certificates of people: chains that need them, issuers that nobody uses, and revocation that nobody can find out.

use super::super::section::{At, Notes};
use super::super::{Chain, Issuer, Method, WhenUnknown};
use bivector_wire::eap::Proves;

pub(crate) fn issuers(chains: &[Chain], issuers: &[(At<String>, Issuer)], notes: &Notes<'_>) {
    for (index, (name, issuer)) in issuers.iter().enumerate() {
        if !chains.iter().any(|chain| chain.issuers.contains(&index)) {
            let message = format!("the issuer `{}` is not used", issuer.name);
            notes.warn("unused", name.span.clone(), message, "add it to `issuers` of a chain, or remove it");
        }
        if issuer.lists.is_empty() {
            let message = format!("nothing says which certificates of `{}` are revoked: a lost one works until it expires", issuer.name);
            notes.warn("no-revocation", name.span.clone(), message, "list the issuer's revocation list under `revocation`");
        } else if issuer.when_unknown == WhenUnknown::Accept {
            let message = format!("while the revocation list of `{}` cannot be read, revoked certificates are accepted", issuer.name);
            notes.warn("revocation-soft", name.span.clone(), message, "set `when_unknown = \"refuse\"` if that must not happen");
        }
    }
    for chain in chains {
        let at = || notes.lines.start_of(chain.line);
        let certificate = chain.methods.iter().find(|method| method.proves() == Some(Proves::Certificate));
        let tunnel = chain.methods.iter().any(|method| method.eap().is_some_and(|method| method.has_tunnel()));
        match certificate {
            Some(method) if chain.issuers.is_empty() => {
                let message = format!("the chain `{}` accepts `{}`, and no issuer of certificates is trusted", chain.name, method.name());
                notes.error(
                    "certificates-without-issuer",
                    at(),
                    message,
                    "add an `[[issuers]]` table and name it under `issuers` of the chain",
                );
            }
            Some(method) => device_alone(chain, *method, issuers, notes),
            None => {}
        }
        if certificate.is_none() && !chain.issuers.is_empty() && !tunnel {
            let message = format!("`issuers` of the chain `{}` does nothing: none of its methods can carry a certificate", chain.name);
            notes.error("contradiction", at(), message, "add an EAP method with a tunnel, or remove `issuers`");
        }
    }
}

/// A certificate of a device says nothing of a person.
fn device_alone(chain: &Chain, method: Method, issuers: &[(At<String>, Issuer)], notes: &Notes<'_>) {
    if let Some((_, issuer)) = chain.issuers.iter().filter_map(|index| issuers.get(*index)).find(|(_, issuer)| issuer.of_devices) {
        let message = format!(
            "the chain `{}` accepts `{}`, and certificates of `{}` belong to devices, so they do not say who logs in",
            chain.name,
            method.name(),
            issuer.name
        );
        notes.error(
            "device-alone",
            notes.lines.start_of(chain.line),
            message,
            "use EAP-TTLS, which adds a person to the device's certificate",
        );
    }
}
