//! Prompts of our own for a second factor: what a person may choose, what is sent, and how an answer is read.

use super::candidate::Candidate;
use super::fact::*;
use super::machine::{AfterMark, Asks, Login, State, Station};
use super::pending::{Kept, KeptApproval, KeptAsk, KeptBytes, KeptExpired, KeptSent, Round};
use super::proof::{FirstProved, SecondWaived};
use super::reading::{Evidence, near_said};
use super::request::Credential;
use super::second::{MarkFor, Marking};
use bivector_model::cause::Cause;
use bivector_model::device::Near;
use bivector_model::facts::AnswerFact;
use bivector_model::moment::Moment;
use bivector_model::prompt::{Text, plain_answer, shorten};
use bivector_model::trace::{Hop, Tone};
use bivector_site::{Carries, FactorKind, SourceRef, WhenSecondIsDown, WhenSeveral};
use bivector_wire::Secret;
use std::sync::Arc;
use subtle::ConstantTimeEq;

/// How often one login may be answered wrongly.
const TRIES: u8 = 3;

/// How the first check stands while a second factor is asked for.
#[derive(Debug)]
pub(super) enum FirstStands {
    /// It was right.
    Proved(FirstProved),
    /// The password is known to the directory but has expired: the second factor lets the person set a new one, and nothing else.
    Expired { source: SourceRef, old: Secret<String>, cause: Cause },
}

impl FirstStands {
    fn source(&self) -> SourceRef {
        match self {
            FirstStands::Proved(first) => first.source(),
            FirstStands::Expired { source, .. } => *source,
        }
    }

    /// What follows once the second factor is proved and marked.
    pub(super) fn after_mark(self) -> AfterMark {
        match self {
            FirstStands::Proved(first) => AfterMark::Rules(first),
            FirstStands::Expired { source, old, .. } => AfterMark::NewPassword { source, old },
        }
    }

    /// The proof; else the cause for which a login without one is refused.
    pub(super) fn proved(self) -> Result<FirstProved, Cause> {
        match self {
            FirstStands::Proved(first) => Ok(first),
            FirstStands::Expired { cause, .. } => Err(cause),
        }
    }

    pub(super) fn expired(&self) -> Option<Cause> {
        match self {
            FirstStands::Proved(_) => None,
            FirstStands::Expired { cause, .. } => Some(*cause),
        }
    }

    fn kept(&self) -> Option<KeptExpired> {
        match self {
            FirstStands::Proved(_) => None,
            FirstStands::Expired { old, cause, .. } => Some(KeptExpired { old: Kept::new(old), cause: *cause }),
        }
    }
}

/// Somebody whose password the source knows and who is asked for a second factor.
#[derive(Debug)]
pub(super) struct Asking {
    pub(super) first: FirstStands,
    pub(super) person: Box<Candidate>,
    pub(super) sent: Option<KeptSent>,
    pub(super) sendings: u8,
    pub(super) tries: u8,
    /// An upstream that gets what is typed.
    pub(super) upstream: Option<usize>,
    /// An approval that waits on the handset.
    pub(super) approval: Option<KeptApproval>,
    /// The seed of an app that is being set up.
    pub(super) seed: Option<Secret<Vec<u8>>>,
    /// Factors that were down in this login.
    pub(super) down: Vec<FactorKind>,
    /// What is said before the next prompt.
    pub(super) lead: Option<Text>,
    /// Whether the next code of a device would bring it back.
    pub(super) nearly: bool,
}

/// What a person can choose.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Choice {
    /// A code of one of the person's own devices.
    Codes,
    Courier(usize),
    Upstream(usize),
    /// An approval, perhaps with a security key.
    Handset {
        with_key: bool,
    },
}

impl Choice {
    fn of(kind: FactorKind) -> Self {
        match kind {
            FactorKind::Code(_) => Choice::Codes,
            FactorKind::Courier(index) => Choice::Courier(index),
            FactorKind::Upstream(index) => Choice::Upstream(index),
            FactorKind::Approval => Choice::Handset { with_key: false },
            FactorKind::Key => Choice::Handset { with_key: true },
        }
    }
}

impl Asking {
    pub(super) fn new(first: FirstProved, person: Box<Candidate>) -> Self {
        Self::standing(FirstStands::Proved(first), person)
    }

    pub(super) fn standing(first: FirstStands, person: Box<Candidate>) -> Self {
        Asking {
            first,
            person,
            sent: None,
            sendings: 0,
            tries: 0,
            upstream: None,
            approval: None,
            seed: None,
            down: Vec::new(),
            lead: None,
            nearly: false,
        }
    }
}

impl Login {
    pub(super) fn say(&self, person: &Found, text: Text, places: &[(&str, &str)]) -> String {
        let own = Some(person.language.as_str()).filter(|language| !language.is_empty());
        let language = own.or(self.gateway().map(|gateway| gateway.language.as_str())).unwrap_or_default();
        self.site.texts.say(language, text, places)
    }

    /// The factors of the chain that this person could give now, in the chain's order.
    pub(super) fn choices(&self, asking: &Asking, now: Moment) -> Vec<Choice> {
        let Some(chain) = self.chain() else { return Vec::new() };
        let mut all = Vec::new();
        for kind in chain.second.iter().filter(|kind| !asking.down.contains(kind)) {
            let choice = match kind {
                FactorKind::Code(kind) => {
                    asking.person.devices().iter().any(|device| device.kind() == *kind && device.can_be_used(now)).then_some(Choice::Codes)
                }
                FactorKind::Courier(index) => self.reach(*index, &asking.person).map(|_| Choice::Courier(*index)),
                // An upstream answers for the whole login, and there is none to go on with before the new password.
                FactorKind::Upstream(index) => asking.first.expired().is_none().then_some(Choice::Upstream(*index)),
                FactorKind::Approval | FactorKind::Key => Login::handset_choice(&asking.person, *kind),
            };
            all.extend(choice.filter(|choice| !all.contains(choice)));
        }
        all
    }

    /// Where a courier would reach the person.
    pub(super) fn reach(&self, courier: usize, person: &Found) -> Option<String> {
        let to = match self.site.couriers.get(courier)?.carries {
            Carries::Mail => &person.mail,
            Carries::Text | Carries::Call => &person.phone,
        };
        to.clone().filter(|to| !to.trim().is_empty())
    }

    /// Asks for a second factor: the one that there is, the first, or a list to choose from.
    pub(super) fn ask_second(&mut self, asking: Asking, now: Moment) -> State {
        let choices = self.choices(&asking, now);
        let shows = self.shows_prompts();
        let Some(first) = choices.first().copied() else { return self.not_enrolled(asking, now) };
        if !shows {
            // The handset is the one place besides the password field where an answer can come from.
            if let Some(Choice::Handset { with_key }) = choices.iter().find(|choice| matches!(choice, Choice::Handset { .. })) {
                return self.ask_handset(asking, *with_key);
            }
            let said = match self.request.known_method().filter(|method| method.eap().is_some()) {
                Some(method) => format!("no code was entered, and `{}` cannot ask for one", method.name()),
                None => "no code was entered, and the gateway cannot show a prompt for one".to_owned(),
            };
            self.step(Hop::Second, "code", Tone::Bad, now, said, self.gateway().map(|gateway| gateway.line));
            return self.refuse(Cause::CodeMissing, now);
        }
        if asking.sent.is_some() || asking.upstream.is_some() {
            return self.prompt(asking, now);
        }
        if asking.seed.is_some() {
            return self.prompt(asking, now);
        }
        let alone = choices.len() == 1 || self.chain().is_some_and(|chain| chain.when_several == WhenSeveral::First);
        match first {
            Choice::Courier(_) if asking.sendings > 0 => self.prompt(asking, now),
            choice if alone => self.chosen(asking, choice, now),
            _ => self.prompt(asking, now),
        }
    }

    /// Asks for a factor that a word has chosen.
    pub(super) fn ask_for(&mut self, asking: Asking, kind: FactorKind, now: Moment) -> State {
        let name = self.site.factor_name(kind).to_owned();
        let choice = Choice::of(kind);
        if !self.choices(&asking, now).contains(&choice) {
            let said = match choice {
                Choice::Handset { .. } => format!("the person chose {name}, but has no handset or key for it"),
                _ => format!("the person chose {name}, but has no address or number for it"),
            };
            self.step(Hop::Second, "factors", Tone::Bad, now, said, None);
            return self.refuse(Cause::FactorUnreachable, now);
        }
        if !self.shows_prompts() && !matches!(choice, Choice::Handset { .. }) {
            return self.ask_second(asking, now);
        }
        self.step(Hop::Second, "factors", Tone::Good, now, format!("the person chose {name}"), None);
        self.chosen(asking, choice, now)
    }

    fn chosen(&mut self, mut asking: Asking, choice: Choice, now: Moment) -> State {
        match choice {
            Choice::Codes => {
                let text = if self.pins_here(&asking.person) { Text::PinCode } else { Text::Code };
                let said = self.say(&asking.person, text, &[("devices", &Login::device_names(&asking.person, now))]);
                self.put(asking, said, false, now)
            }
            Choice::Upstream(index) => {
                asking.upstream = Some(index);
                self.prompt(asking, now)
            }
            Choice::Handset { with_key } => self.ask_handset(asking, with_key),
            Choice::Courier(index) if asking.sendings > self.site.sending.resends => {
                let said = format!("{} codes were sent in this login, the maximum", asking.sendings);
                self.not_now(asking, FactorKind::Courier(index), Cause::CourierLimit, said, now)
            }
            Choice::Courier(index) => {
                let Some(to) = self.reach(index, &asking.person) else { return self.refuse(Cause::FactorUnreachable, now) };
                let language = Some(asking.person.language.clone()).filter(|language| !language.is_empty());
                let sendable = Sendable {
                    courier: index,
                    person: asking.person.key.clone(),
                    to,
                    name: asking.person.name.clone(),
                    language: language.or(self.gateway().map(|gateway| gateway.language.clone())).unwrap_or_default(),
                };
                SendingCode { sendable: Box::new(sendable), asking: Box::new(asking) }.into()
            }
        }
    }

    /// Whether a code at a prompt needs its PIN before it.
    fn pins_here(&self, person: &Candidate) -> bool {
        self.chain().is_some_and(bivector_site::Chain::asks_for_pins) && person.devices().iter().any(|device| device.has_pin)
    }

    fn device_names(person: &Candidate, now: Moment) -> String {
        let usable = person.devices().iter().filter(|device| device.can_be_used(now));
        usable.map(|device| device.label.as_str()).collect::<Vec<_>>().join(", ")
    }

    /// The prompt that fits how far the asking is.
    pub(super) fn prompt(&mut self, asking: Asking, now: Moment) -> State {
        let person = &asking.person;
        if asking.seed.is_some() {
            return self.show_seed(asking, now);
        }
        if let Some(number) = asking.approval.and_then(|approval| approval.number) {
            let said = self.say(person, Text::Number, &[("number", &number.to_string())]);
            return self.put(asking, said, true, now);
        }
        if let Some(sent) = &asking.sent {
            let said = self.say(person, Text::Sent, &[("to", &sent.to)]);
            return self.put(asking, said, false, now);
        }
        if let Some(index) = asking.upstream {
            let name = self.site.source_name(SourceRef::Upstream(index)).to_owned();
            let said = self.say(person, Text::UpstreamCode, &[("upstream", &name)]);
            return self.put(asking, said, false, now);
        }
        let choices = self.choices(&asking, now);
        if let [Choice::Codes] = choices.as_slice() {
            return self.chosen(asking, Choice::Codes, now);
        }
        let line = |(at, choice): (usize, &Choice)| {
            let said = match choice {
                Choice::Codes => self.say(person, Text::OptionCode, &[("devices", &Login::device_names(&asking.person, now))]),
                Choice::Upstream(index) => {
                    self.say(person, Text::OptionUpstream, &[("upstream", self.site.source_name(SourceRef::Upstream(*index)))])
                }
                Choice::Courier(index) => {
                    let text = match self.site.couriers.get(*index).map(|courier| courier.carries) {
                        Some(Carries::Mail) => Text::OptionMail,
                        Some(Carries::Call) => Text::OptionCall,
                        _ => Text::OptionText,
                    };
                    self.say(person, text, &[("to", &masked(&self.reach(*index, person).unwrap_or_default()))])
                }
                Choice::Handset { with_key } => self.say(person, Login::handset_option(*with_key), &[]),
            };
            format!("{} {said}", at + 1)
        };
        let list: Vec<String> = choices.iter().enumerate().map(line).collect();
        let text = if choices.contains(&Choice::Codes) { Text::Choose } else { Text::ChooseSending };
        let said = self.say(person, text, &[("list", &list.join("\n"))]);
        // The answer to a menu is echoed. A code typed there works only once, so it may be seen; a PIN before it may not.
        let echo = !choices.contains(&Choice::Codes) || !self.chain().is_some_and(bivector_site::Chain::asks_for_pins);
        self.put(asking, said, echo, now)
    }

    /// Keeps how far it is and asks the person.
    pub(super) fn put(&mut self, asking: Asking, said: String, echo: bool, now: Moment) -> State {
        let limit = self.gateway().map_or(253, |gateway| gateway.prompt_limit);
        let lead = asking.lead.map(|lead| self.say(&asking.person, lead, &[]));
        let prompt = shorten(&lead.map_or(said.clone(), |lead| format!("{lead} {said}")), limit);
        let secret = asking.seed.is_some();
        let asked = match secret {
            true => "the prompt shows the key for a new authenticator app and asks for its first code".to_owned(),
            false => format!("prompt: \"{}\"", prompt.replace('\n', " / ")),
        };
        self.step(Hop::Second, "asked", Tone::Note, now, asked, None);
        let name = |kind: &FactorKind| self.site.factor_name(*kind).to_owned();
        let kept = KeptAsk {
            down: asking.down.iter().map(name).collect(),
            upstream: asking.upstream.map(|index| self.site.source_name(SourceRef::Upstream(index)).to_owned()),
            sent: asking.sent,
            sendings: asking.sendings,
            tries: asking.tries,
            approval: asking.approval,
            seed: asking.seed.as_ref().map(KeptBytes::new),
            expired: asking.first.kept(),
        };
        let asks = Asks { secret, ..Asks::of(prompt, echo) };
        self.keep(asking.first.source(), asking.person, Round::Ask(Box::new(kept)), asks, now)
    }

    /// The answer to a prompt of ours.
    pub(super) fn answered(&mut self, mut asking: Asking, now: Moment) -> State {
        if let Some(until) = asking.person.locked(now) {
            return self.refuse_locked(until, now);
        }
        (asking.lead, asking.nearly) = (None, false);
        let typed = match &self.request.credential {
            Credential::Text(text) => self.charset_text(text),
            _ => None,
        };
        let answer = Secret::new(plain_answer(typed.as_ref().map_or("", |typed| typed.expose().as_str())));
        let text = answer.expose().as_str();
        if let Some(seed) = asking.seed.clone() {
            self.note_answer(AnswerFact::Other);
            // Enrolled in some other way meanwhile: then that factor is asked for.
            if asking.person.has_any_factor {
                asking.seed = None;
                return self.ask_second(asking, now);
            }
            return self.first_code(asking, seed, text, now);
        }
        if let Some(approval) = asking.approval {
            if Login::goes_on(&approval, text) {
                self.note_answer(AnswerFact::Nothing);
                return self.await_approval(asking, approval);
            }
            asking.person.waiting_approval = Some(approval.id);
        }
        if text.is_empty() {
            self.note_answer(AnswerFact::Nothing);
            self.step(Hop::Second, "answer", Tone::Note, now, "nothing was entered".to_owned(), None);
            return self.ask_again(asking, Cause::CodeMissing, now);
        }
        if let Some(sent) = asking.sent.clone().filter(|sent| is_sent(sent, text)) {
            return self.sent_came_back(asking, sent, now);
        }
        if let Some((pin, code)) = self.own_code(&asking.person, text, now) {
            let pin_digits = pin.as_ref().map_or(0, |pin| pin.expose().len());
            self.note_answer(AnswerFact::Own(code.kind(), text.len() - pin_digits, pin_digits));
            return self.use_code(asking.person, code, pin, asking.first.after_mark(), now);
        }
        if let Some(choice) = self.read_choice(&asking, text, now) {
            self.note_answer(AnswerFact::Factor(self.choice_name(choice)));
            self.step(Hop::Second, "answer", Tone::Good, now, "the person chose a factor".to_owned(), None);
            (asking.sent, asking.upstream, asking.approval) = (None, None, None);
            return self.chosen(asking, choice, now);
        }
        if asking.upstream.is_some() {
            let code = typed.unwrap_or_default();
            self.note_answer(AnswerFact::ForUpstream(code.expose().len()));
            return match asking.first.proved() {
                Ok(first) => self.code_upstream(asking.person, first, &code, now),
                Err(cause) => self.refuse(cause, now),
            };
        }
        self.wrong_answer(asking, text, now)
    }

    /// The code that was sent has come back.
    fn sent_came_back(&mut self, mut asking: Asking, sent: KeptSent, now: Moment) -> State {
        self.note_answer(AnswerFact::Sent);
        if now <= sent.until {
            let proof = MarkFor::Sent { equals: true, courier: sent.courier };
            return Marking { person: asking.person, proof, then: asking.first.after_mark() }.into();
        }
        self.step(Hop::Second, "code", Tone::Note, now, "the sent code has expired".to_owned(), None);
        asking.sent = None;
        self.ask_again(asking, Cause::CodeEnded, now)
    }

    /// What was typed is nothing that the person could give: it is counted.
    fn wrong_answer(&mut self, mut asking: Asking, text: &str, now: Moment) -> State {
        self.note_answer(AnswerFact::Wrong(text.len()));
        let evidence = Evidence { devices: asking.person.devices(), now, limits: self.site.codes };
        let near = evidence.near(text);
        let (cause, said) = near.as_ref().map_or((Cause::CodeWrong, "the answer is not a valid code of this person".to_owned()), near_said);
        let ahead = match near {
            Some(Near::Ahead { device, counter }) => Some((device, counter)),
            _ => None,
        };
        self.step(Hop::Second, "answer", Tone::Bad, now, said, None);
        asking.nearly = ahead.is_some();
        let person = Arc::clone(&asking.person.person);
        self.count_wrong(&person, cause, WrongTry::CODE, ahead, Some(Box::new(asking)), now)
    }

    /// A code of one of the person's devices, with its PIN before it where the device has one.
    fn own_code(
        &self,
        person: &Candidate,
        text: &str,
        now: Moment,
    ) -> Option<(Option<Secret<String>>, bivector_model::device::VerifiedCode)> {
        let pins = self.chain().is_some_and(bivector_site::Chain::asks_for_pins);
        let (cut, verified) = Evidence { devices: person.devices(), now, limits: self.site.codes }.own_code(text, pins)?;
        Some(((cut > 0).then(|| Secret::new(text.get(..cut).unwrap_or_default().to_owned())), verified))
    }

    /// The factor that a choice means, by its name in the site file.
    fn choice_name(&self, choice: Choice) -> String {
        let kind = self.chain().and_then(|chain| chain.second.iter().copied().find(|kind| Choice::of(*kind) == choice));
        kind.map(|kind| self.site.factor_name(kind).to_owned()).unwrap_or_default()
    }

    /// A number of the list, or a word for a factor.
    fn read_choice(&self, asking: &Asking, text: &str, now: Moment) -> Option<Choice> {
        let choices = self.choices(asking, now);
        if text.len() <= 2
            && let Ok(number) = text.parse::<usize>()
        {
            return number.checked_sub(1).and_then(|at| choices.get(at).copied());
        }
        let chain = self.chain()?;
        let word = chain.words.iter().find(|word| word.word.eq_ignore_ascii_case(text)).map(|word| word.means);
        let named = || chain.second.iter().copied().find(|kind| self.site.factor_name(*kind).eq_ignore_ascii_case(text));
        let choice = Choice::of(word.or_else(named)?);
        choices.contains(&choice).then_some(choice)
    }

    /// Asks once more after an answer that led nowhere, unless that was often enough.
    pub(super) fn ask_again(&mut self, mut asking: Asking, cause: Cause, now: Moment) -> State {
        asking.tries += 1;
        if asking.tries >= TRIES {
            return self.refuse(cause, now);
        }
        if std::mem::take(&mut asking.nearly) {
            let said = self.say(&asking.person, Text::NextCode, &[("devices", &Login::device_names(&asking.person, now))]);
            return self.put(asking, said, false, now);
        }
        asking.lead = Some(Text::Wrong);
        match self.choices(&asking, now).as_slice() {
            _ if asking.approval.is_some() || asking.seed.is_some() => self.prompt(asking, now),
            [Choice::Codes] => self.chosen(asking, Choice::Codes, now),
            _ => self.prompt(asking, now),
        }
    }

    /// What the chain says of a factor that is down: the next one, the first check alone, or no.
    pub(super) fn second_is_down(&mut self, mut asking: Asking, kind: FactorKind, cause: Cause, now: Moment) -> State {
        let Some(chain) = self.chain() else { return self.refuse(cause, now) };
        let (line, shows) = (Some(chain.line), self.shows_prompts());
        match chain.when_second_is_down {
            WhenSecondIsDown::FirstOnly => match (SecondWaived::factor_is_down(chain, cause), asking.first.proved()) {
                (Some(waived), Ok(first)) => self.waive(asking.person, first, waived, line, now),
                _ => self.refuse(cause, now),
            },
            WhenSecondIsDown::Next => {
                asking.down.push(kind);
                if !shows || self.choices(&asking, now).is_empty() {
                    return self.refuse(cause, now);
                }
                asking.lead = Some(Text::NotSent);
                self.ask_second(asking, now)
            }
            WhenSecondIsDown::Refuse => self.refuse(cause, now),
        }
    }
}

/// A courier is sending a code.
#[derive(Debug)]
pub(super) struct SendingCode {
    pub(super) sendable: Box<Sendable>,
    asking: Box<Asking>,
}

impl Station for SendingCode {
    type Answer = SendAnswer;

    fn need(&self, _: &Login) -> Need {
        Need::SendCode(self.sendable.clone())
    }

    fn learn(self, login: &mut Login, answer: SendAnswer, now: Moment) -> State {
        let SendingCode { sendable, mut asking } = self;
        let courier = login.site.couriers.get(sendable.courier);
        let (name, line) = courier.map_or((String::new(), None), |courier| (courier.name.clone(), Some(courier.line)));
        let kind = FactorKind::Courier(sendable.courier);
        match answer {
            SendAnswer::Sent(sent) => {
                login.step(Hop::Second, "courier", Tone::Good, now, format!("{name} accepted a code for {}", sent.to), line);
                let until = now.plus(login.site.sending.lasts);
                asking.sent = Some(KeptSent { courier: name, code: Kept::new(&sent.code), to: sent.to, until });
                asking.sendings += 1;
                login.prompt(*asking, now)
            }
            SendAnswer::Limited(said) => login.not_now(*asking, kind, Cause::CourierLimit, said, now),
            SendAnswer::Unavailable(why) => {
                login.step(Hop::Second, "courier", Tone::Warn, now, format!("{name} could not send the code: {}", why.seen), line);
                login.second_is_down(*asking, kind, why.cause, now)
            }
        }
    }
}

/// Whether a text is the code that was sent.
fn is_sent(sent: &KeptSent, text: &str) -> bool {
    text.bytes().all(|byte| byte.is_ascii_digit()) && bool::from(sent.code.open().expose().as_bytes().ct_eq(text.as_bytes()))
}

/// An address or number with most of it hidden: enough to know which one it is.
pub fn masked(to: &str) -> String {
    match to.split_once('@') {
        Some((name, domain)) => format!("{}…@{domain}", name.chars().next().map(String::from).unwrap_or_default()),
        None => {
            let digits: Vec<char> = to.chars().filter(char::is_ascii_digit).collect();
            format!("…{}", digits[digits.len().saturating_sub(2)..].iter().collect::<String>())
        }
    }
}
