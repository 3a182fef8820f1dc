//! Who logs in, and what is typed: everybody the same, but for their names.

use super::setting::{Plan, PlanError};
use crate::budget::How;
use bivector_core::login::{Credential, Factors, Found, Inside, Request, VerifiedCertificate};
use bivector_core::radius::{self, Arrival};
use bivector_core::replay::made_device;
use bivector_model::device::{CodeKind, Device};
use bivector_model::form::Form;
use bivector_model::moment::Moment;
use bivector_model::rule::{Decision, Groups, Then};
use bivector_model::trace::Origin;
use bivector_site::{Chain, FactorKind, Gateway, Method};
use bivector_wire::eap::Proves;
use bivector_wire::{
    AttributeType, Code, IntegrityPolicy, MICROSOFT, MS_CHAP_CHALLENGE, MS_CHAP2_RESPONSE, Message, MsChapProof, Packet, SharedSecret,
    authenticate, chap_password, hide_password, nt_hash,
};
use std::net::SocketAddr;
use std::sync::Arc;

/// Signs what is made up.
const SECRET: &[u8] = b"made up for the simulation";
/// What everybody types as the password.
pub(super) const PASSWORD: &str = "barnacle-and-buoy";
/// What couriers bring.
pub(super) const SENT: &str = "424242";
const PIN: &str = "4711";
/// When devices are made: so late that none of them ends in any simulation.
const AGELESS: Moment = Moment::from_secs(9_000_000_000);
const AUTHENTICATOR: [u8; 16] = [7; 16];

/// The people of a simulation.
#[derive(Debug)]
pub(super) struct Cast {
    /// What a source knows of each.
    pub(super) found: Arc<Found>,
    /// What the records know of each.
    pub(super) factors: Factors,
    method: Method,
    typed_name: String,
    chain: usize,
    gateway: usize,
    sender: SocketAddr,
    port: u16,
    identifier: Option<String>,
    /// The form that is typed by, and whether a code is part of it.
    form: Option<Form>,
    word: Option<String>,
    device: Option<Device>,
    codes_typed: bool,
    /// The code that is right in the present half minute, as long as devices by time count: they all count alike here.
    code: std::cell::RefCell<(u64, String)>,
    /// The last request that was put together, and its text.
    last: Option<(String, Arc<Request>)>,
}

impl Cast {
    /// For the way of a plan.
    pub(super) fn new(plan: &Plan) -> Result<Self, PlanError> {
        let missing = || PlanError::new("the chain or the gateway is not in the site", "name them as they stand in the site file");
        let chain = plan.site.chains.get(plan.way.chain).ok_or_else(missing)?;
        let gateway = plan.site.gateways.get(plan.way.gateway).ok_or_else(missing)?;
        let how = plan.way.how;
        let codes_typed = matches!(how, How::Typed(_) | How::Upstream(_));
        let form = form_for(chain, codes_typed)?;
        let digits = (6..=10).find(|digits| form.as_ref().is_none_or(|form| !codes_typed || form.takes_digits(*digits))).unwrap_or(6);
        let has_pin = codes_typed && form.as_ref().is_some_and(Form::has_pin);
        let device = match how {
            How::Typed(kind) | How::Prompted(kind) => Some(made_device(1, kind, digits, has_pin, false, AGELESS)),
            // An upstream's code is anything with its digits.
            How::Upstream(_) | How::UpstreamPrompted(_) => Some(made_device(1, CodeKind::Totp, digits, false, false, AGELESS)),
            _ => None,
        };
        let word = form.as_ref().filter(|form| form.has_factor()).and_then(|_| word_for(chain, how));
        let handsets = u32::from(how.asks_handset());
        let keys = u32::from(handsets > 0 && !chain.second.contains(&FactorKind::Approval));
        let own = matches!(how, How::Typed(_) | How::Prompted(_)).then(|| device.clone()).flatten();
        let found = Arc::new(person(chain, gateway, how)?);
        let ports = chain.ports.first().copied().or(plan.site.radius.listen.first().map(SocketAddr::port)).unwrap_or(1812);
        let sender = gateway.from.first().map_or(std::net::IpAddr::from([127, 0, 0, 1]), ipnet::IpNet::addr);
        Ok(Cast {
            found,
            factors: Factors { devices: own.into_iter().collect(), handsets, keys, ..Factors::default() },
            method: plan.way.method,
            typed_name: match chain.realms.iter().find(|realm| !realm.is_empty()) {
                Some(realm) => format!("somebody@{realm}"),
                None => "somebody".to_owned(),
            },
            chain: plan.way.chain,
            gateway: plan.way.gateway,
            sender: SocketAddr::new(sender, 1024),
            port: ports,
            identifier: gateway.identifiers.first().cloned(),
            form,
            word,
            device,
            codes_typed,
            code: Default::default(),
            last: None,
        })
    }

    /// The code that is right now.
    pub(super) fn code(&self, now: Moment) -> String {
        let step = now.secs() / 30 + 1;
        let mut known = self.code.borrow_mut();
        if known.0 != step {
            let live = self.device.as_ref().and_then(|device| device.live(now, &Default::default()).next());
            *known = (step, live.map_or_else(|| SENT.to_owned(), |(code, _)| code));
        }
        known.1.clone()
    }

    /// What is typed first.
    fn text(&self, now: Moment) -> String {
        let code = self.codes_typed.then(|| self.code(now));
        match &self.form {
            Some(form) => form.rebuild(PASSWORD, Some(PIN), code.as_deref(), self.word.as_deref()),
            None => PASSWORD.to_owned() + code.as_deref().unwrap_or_default(),
        }
    }

    /// The first request of somebody who logs in now.
    pub(super) fn request(&mut self, now: Moment) -> Option<Arc<Request>> {
        let text = self.text(now);
        if let Some((last, request)) = &self.last
            && *last == text
        {
            return Some(Arc::clone(request));
        }
        let request = Arc::new(self.put_together(self.method, &text)?);
        self.last = Some((text, Arc::clone(&request)));
        Some(request)
    }

    /// The answer to a prompt.
    pub(super) fn answer(&self, state: Vec<u8>, text: &str) -> Option<Request> {
        let mut request = self.put_together(Method::Pap, text)?;
        request.state = Some(state);
        Some(request)
    }

    fn put_together(&self, method: Method, text: &str) -> Option<Request> {
        let secret = SharedSecret::new(SECRET);
        let mut message = Message::new(Code::AccessRequest);
        message.push(AttributeType::UserName, self.typed_name.as_bytes());
        match method.proves() {
            Some(Proves::Text) => message.push(AttributeType::UserPassword, &hide_password(text.as_bytes(), &AUTHENTICATOR, &secret).ok()?),
            Some(Proves::Chap) => {
                message.push(AttributeType::ChapPassword, &chap_password(1, text.as_bytes(), &AUTHENTICATOR));
                message.push(AttributeType::ChapChallenge, &AUTHENTICATOR);
            }
            Some(Proves::MsChapV2) => {
                let (ours, theirs) = (AUTHENTICATOR, [9; 16]);
                let (response, _) = MsChapProof::answer(1, self.typed_name.as_bytes(), &nt_hash(text), ours, theirs);
                message.push_vendor(MICROSOFT, MS_CHAP_CHALLENGE, &ours);
                message.push_vendor(MICROSOFT, MS_CHAP2_RESPONSE, &response);
            }
            None | Some(Proves::Certificate) => message.push(AttributeType::EapMessage, &[2, 1, 0, 5, 1]),
        }
        if let Some(identifier) = &self.identifier {
            message.push(AttributeType::NasIdentifier, identifier.as_bytes());
        }
        let bytes = message.sign_request(1, &AUTHENTICATOR, &secret).ok()?;
        let authentic = authenticate(Packet::parse(&bytes).ok()?, &secret, IntegrityPolicy::Required).ok()?;
        let arrival =
            Arrival { gateway: self.gateway, sender: self.sender, port: self.port, origin: Origin::Gateway, secret_proved: false };
        let mut request = radius::read(&authentic, &secret, arrival);
        if method.proves() == Some(Proves::Certificate) {
            request = request.with_credential(Credential::Certificate, None);
        }
        Some(match self.method.eap() {
            Some(inside) => {
                // No time passes before the login here: it begins when it is decided.
                let began = Moment::from_micros(u64::MAX);
                let certificate = Some(Box::new(VerifiedCertificate::made_up(&self.typed_name)));
                request.within(Inside { method: Some(inside), chain: self.chain, began, steps: Vec::new(), certificate })
            }
            None => request,
        })
    }
}

/// The form that is typed by: with a code where the way wants one, plain if there is one that is.
fn form_for(chain: &Chain, codes_typed: bool) -> Result<Option<Form>, PlanError> {
    let fits = |form: &&Form| form.has_code() == codes_typed && (form.has_password() || chain.code_only);
    let mut fitting: Vec<&Form> = chain.forms.iter().filter(fits).collect();
    fitting.sort_by_key(|form| (form.has_factor(), form.has_pin()));
    match fitting.first() {
        Some(form) => Ok(Some((*form).clone())),
        None if chain.forms.is_empty() => Ok(None),
        None => Err(PlanError::new(
            format!("no form of `{}` can be typed this way", chain.name),
            "choose another way through the chain; `bivector budget` lists them",
        )),
    }
}

fn word_for(chain: &Chain, how: How) -> Option<String> {
    let means = |kind: FactorKind| match how {
        How::Courier(index) => kind == FactorKind::Courier(index),
        _ => how.asks_handset() && matches!(kind, FactorKind::Approval | FactorKind::Key),
    };
    chain.words.iter().find(|word| means(word.means)).map(|word| word.word.clone())
}

/// Somebody whom a rule of the chain lets in.
fn person(chain: &Chain, gateway: &Gateway, how: How) -> Result<Found, PlanError> {
    let found = chain.rules.rules().iter().filter(|rule| matches!(rule.then, Then::Grant(_))).find_map(|rule| {
        let groups = Groups::new(rule.when.groups.first().map(String::as_str));
        matches!(chain.rules.decide(&groups, &gateway.labels), Decision::Passed(..)).then_some(groups)
    });
    let groups = found.ok_or_else(|| {
        PlanError::new(
            format!("no rule of `{}` lets anybody in through `{}`", chain.name, gateway.name),
            "add a rule with a grant; without one every login is refused, however long anybody waits",
        )
    })?;
    let reached = matches!(how, How::Courier(_));
    Ok(Found {
        key: "simulated:somebody".to_owned(),
        login: "somebody".to_owned(),
        name: "Somebody".to_owned(),
        handle: "somebody".to_owned(),
        groups,
        mail: reached.then(|| "somebody@northmoor.example".to_owned()),
        phone: reached.then(|| "+1 555 0100".to_owned()),
        language: String::new(),
    })
}
