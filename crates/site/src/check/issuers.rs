//! Certificates of people: chains that need them, issuers that nobody uses, and revocation that nobody can find out.

use super::super::section::{At, Notes};
use super::super::{Chain, Eap, Issuer, Method, WhenUnknown};
use super::{EXPIRY_WARNED, Known};
use bivector_wire::eap::Proves;

/// Everything about certificates that only shows in the whole site.
pub(crate) fn certificates(chains: &[Chain], eap: &Eap, issuers: &[(At<String>, Issuer)], known: &Known, notes: &Notes<'_>) {
    usable(chains, issuers, notes);
    expiry(eap, issuers, known, notes);
}

fn usable(chains: &[Chain], issuers: &[(At<String>, Issuer)], notes: &Notes<'_>) {
    for (index, (name, issuer)) in issuers.iter().enumerate() {
        if !chains.iter().any(|chain| chain.issuers.contains(&index)) {
            let message = format!("the issuer `{}` is not used", issuer.name);
            notes.warn("unused", name.span.clone(), message, "add it to `issuers` of a chain, or remove it");
        }
        if issuer.lists.is_empty() && issuer.responder.is_none() {
            let message = format!("nothing says which certificates of `{}` are revoked: a lost one works until it expires", issuer.name);
            notes.warn("no-revocation", name.span.clone(), message, "list the issuer's revocation list under `revocation`, or set `ocsp`");
        } else if issuer.when_unknown == WhenUnknown::Accept {
            let message = match issuer.responder {
                None => format!("while the revocation list of `{}` cannot be read, revoked certificates are accepted", issuer.name),
                Some(_) => format!("while the OCSP responder of `{}` does not answer, revoked certificates are accepted", issuer.name),
            };
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

/// Certificates of EAP that end soon: the service's own, and those of trusted issuers.
fn expiry(eap: &Eap, issuers: &[(At<String>, Issuer)], known: &Known, notes: &Notes<'_>) {
    let soon = |file: &str| known.certificates.get(file).copied().filter(|days| *days < EXPIRY_WARNED);
    let when = |days: i64| if days < 0 { format!("expired {} days ago", -days) } else { format!("expires in {days} days") };
    if let Some((file, days)) = eap.certificate.as_ref().and_then(|own| Some((&own.certificate, soon(&own.certificate)?))) {
        let message = format!("the certificate for EAP in `{file}` {}", when(days));
        notes.warn(
            "certificate-ends",
            notes.lines.start_of(eap.line.max(1)),
            message,
            "write the new certificate and key to the same files; they are taken over",
        );
    }
    for (name, issuer) in issuers {
        if let Some(days) = soon(&issuer.trust) {
            let message = format!("a certificate in `{}` (trusted by `{}`) {}", issuer.trust, issuer.name, when(days));
            notes.warn(
                "certificate-ends",
                name.span.clone(),
                message,
                "add the issuer's new certificate to that file, and apply the site again",
            );
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
