//! Every answer to every question, up to a depth: what holds for the login machine whatever the world says.

use super::second_tests::prompting;
use super::tests::*;
use super::*;
use bivector_model::cause::Cause;
use bivector_model::directory::Notice;
use bivector_model::facts::Resends;
use bivector_model::person::Found;
use bivector_model::rule::Groups;
use bivector_site::Site;
use bivector_wire::Secret;
use std::sync::Arc;
use std::time::Duration;

/// Questions that one login may ask, at most; a path that is longer does not end.
const LONGEST: usize = 40;

fn down() -> Unavailable {
    Unavailable { cause: Cause::SourceUnreachable, seen: "down".into() }
}

fn somebody() -> Arc<Found> {
    Arc::new(Found {
        key: "ines".into(),
        login: "ines".into(),
        name: "Ines".into(),
        handle: "uid=ines".into(),
        groups: Groups::new(["control-room"]),
        phone: Some("+44 20 7946 0018".into()),
        mail: Some("ines@northmoor.example".into()),
        ..Found::default()
    })
}

fn factors(devices: bool, handsets: u32, locked: bool) -> Fact {
    Fact::Factors(FactorsAnswer::Known(Box::new(Factors {
        devices: if devices { vec![token()] } else { Vec::new() },
        handsets,
        locked_until: locked.then(|| NOON.plus(Duration::from_secs(900))),
        ..Factors::default()
    })))
}

/// Everything that the world could say to a question.
fn answers(need: &Need, kept: Option<&Pending>) -> Vec<Fact> {
    let approved =
        |key: Option<String>| ApprovalAnswer::Approved(Approved { handset: 31, device: "phone".into(), key, took: Duration::from_secs(3) });
    match need {
        Need::FindPerson { .. } => [
            PersonAnswer::Found(somebody()),
            PersonAnswer::NoSuchPerson,
            PersonAnswer::Ambiguous { count: 2 },
            PersonAnswer::Refused(Cause::PersonSuspended),
            PersonAnswer::Unavailable(down()),
        ]
        .map(|answer| Fact::Person(Answer::ours(answer)))
        .into(),
        Need::Factors { .. } => {
            vec![
                factors(true, 1, false),
                factors(true, 0, true),
                factors(false, 0, false),
                Fact::Factors(FactorsAnswer::Unavailable(down())),
            ]
        }
        Need::CheckPassword { .. } => [
            PasswordAnswer::Right,
            PasswordAnswer::RightBut(Notice::Grace(1)),
            PasswordAnswer::Wrong,
            PasswordAnswer::Refused(Cause::AccountLocked),
            PasswordAnswer::Refused(Cause::PasswordExpired),
            PasswordAnswer::Unavailable(down()),
        ]
        .map(|answer| Fact::Password(Answer::ours(answer)))
        .into(),
        Need::Kept { .. } => [SecretAnswer::Text(Secret::new("barnacle".into())), SecretAnswer::NotKept, SecretAnswer::Unavailable(down())]
            .map(|answer| Fact::Secret(Answer::ours(answer)))
            .into(),
        Need::CheckPin { .. } => [PinAnswer::Right, PinAnswer::Wrong, PinAnswer::Unavailable(down())].map(Fact::Pin).into(),
        Need::BeginGuess(_) => vec![
            Fact::Guess(GuessAnswer::MayTry),
            Fact::Guess(GuessAnswer::Limited { whose: Guesser::Person, wrong: 10, until: NOON }),
            Fact::Guess(GuessAnswer::Limited { whose: Guesser::Caller, wrong: 10, until: NOON }),
        ],
        Need::EndGuess { .. } => vec![Fact::GuessEnded(GuessCount::default())],
        Need::CheckNobody { .. } => vec![Fact::Nobody(())],
        Need::CountWrong(_) => vec![
            Fact::Counted(CountAnswer::Counted { wrong: 1, locked_until: None }),
            Fact::Counted(CountAnswer::Counted { wrong: 5, locked_until: Some(NOON.plus(Duration::from_secs(900))) }),
            Fact::Counted(CountAnswer::Unavailable(down())),
        ],
        Need::SendCode(_) => vec![
            Fact::Sent(SendAnswer::Sent(SentCode { code: Secret::new(SENT.to_owned()), to: "…18".into() })),
            Fact::Sent(SendAnswer::Limited("ten in this hour".into())),
            Fact::Sent(SendAnswer::Unavailable(down())),
        ],
        Need::SendApproval(ask) => vec![
            Fact::ApprovalSent(ApprovalSent::Sent {
                id: 9,
                number: ask.wants_number.then_some(47),
                joined: false,
                until: NOON.plus(ask.lasts),
            }),
            Fact::ApprovalSent(ApprovalSent::Limited("one waits".into())),
            Fact::ApprovalSent(ApprovalSent::Stopped(NOON.plus(Duration::from_secs(60)))),
            Fact::ApprovalSent(ApprovalSent::Unavailable(down())),
        ],
        Need::AwaitApproval { .. } => [
            approved(None),
            ApprovalAnswer::Denied("phone".into()),
            ApprovalAnswer::Disowned("phone".into()),
            ApprovalAnswer::Unanswered("for 45 s".into()),
        ]
        .map(Fact::Approval)
        .into(),
        Need::NewSeed => vec![Fact::Seed(Secret::new(SEED.to_vec()))],
        Need::AddDevice(_) => [AddAnswer::Added(12), AddAnswer::EnrolledMeanwhile, AddAnswer::Unavailable(down())].map(Fact::Added).into(),
        Need::MarkCode(_) => {
            [MarkAnswer::Marked, MarkAnswer::UsedBefore, MarkAnswer::Locked(NOON), MarkAnswer::Unavailable(down())].map(Fact::Mark).into()
        }
        Need::AskUpstream(_) => [
            UpstreamAnswer::Accept(Given::default()),
            UpstreamAnswer::Reject(Given::default()),
            UpstreamAnswer::Challenge { state: vec![1], given: Given::default() },
            UpstreamAnswer::Unavailable(down()),
        ]
        .map(|answer| Fact::Upstream(Answer::ours(answer)))
        .into(),
        Need::KeepChallenge(_) => vec![Fact::Kept(KeptAnswer::Kept(vec![7])), Fact::Kept(KeptAnswer::Unavailable(down()))],
        Need::TakeChallenge { .. } => {
            let taken = kept.map(|kept| TakenAnswer::Taken { pending: Box::new(kept.clone()), before: None });
            taken.into_iter().chain([TakenAnswer::Used, TakenAnswer::NotThere, TakenAnswer::Unavailable(down())]).map(Fact::Taken).collect()
        }
        Need::Reserve(_) => [
            ReserveAnswer::Reserved { leased: Vec::new(), open: 0, ends: None },
            ReserveAnswer::TooMany(1),
            ReserveAnswer::Exhausted(0),
            ReserveAnswer::Unavailable("disk full".into()),
        ]
        .map(Fact::Reserved)
        .into(),
        Need::ChangePassword { .. } => {
            [ChangeAnswer::Changed, ChangeAnswer::NotTaken("too short".into()), ChangeAnswer::Unavailable(down())]
                .map(|answer| Fact::Changed(Answer::ours(answer)))
                .into()
        }
    }
}

/// What was said on one path, over all rounds of a login.
#[derive(Debug, Clone, Default)]
struct Said {
    first: bool,
    second: bool,
    not_enrolled: bool,
    passwords: u32,
    approvals: u32,
    before_password: u32,
    asked: Vec<&'static str>,
}

impl Said {
    fn note(&mut self, need: &Need, fact: &Fact) {
        self.passwords += u32::from(matches!(need, Need::CheckPassword { .. }));
        // The question before the password is of another kind: it lets the password be tried, and nothing else.
        let counted = |ask: &ApprovalAsk| !ask.before_password;
        self.approvals += u32::from(matches!(need, Need::SendApproval(ask) if counted(ask)));
        self.before_password += u32::from(matches!(need, Need::SendApproval(ask) if !counted(ask)));
        self.asked.push(fact.name());
        match (need, fact) {
            (_, Fact::Password(answer)) => self.first |= matches!(answer.value, PasswordAnswer::Right | PasswordAnswer::RightBut(_)),
            (_, Fact::Changed(answer)) => self.first |= answer.value == ChangeAnswer::Changed,
            (Need::AskUpstream(ask), Fact::Upstream(answer)) if matches!(answer.value, UpstreamAnswer::Accept(_)) => {
                // The demo's upstream stands behind the first factor in one site and in front of it in another.
                if self.first && ask.upstream == 0 { self.second = true } else { self.first = true }
            }
            (_, Fact::Mark(MarkAnswer::Marked)) | (_, Fact::Added(AddAnswer::Added(_))) => self.second = true,
            (_, Fact::Factors(FactorsAnswer::Known(known))) => self.not_enrolled |= known.devices.is_empty() && known.handsets == 0,
            _ => {}
        }
    }
}

/// What came of exploring.
#[derive(Debug, Default)]
struct Explored {
    paths: u64,
    accepted: u64,
    challenged: u64,
}

struct Explorer<'e> {
    site: &'e Arc<Site>,
    /// What may be typed at a prompt.
    typed: &'e [&'e str],
    rounds: usize,
    explored: Explored,
}

impl Explorer<'_> {
    /// Follows every path from one request on. The machine cannot be copied, so each path is walked from its start.
    fn round(&mut self, request: &Request, kept: Option<&Pending>, said: &Said, left: usize) {
        let mut path: Vec<usize> = Vec::new();
        loop {
            let mut widths = Vec::new();
            let mut now_said = said.clone();
            let mut pending = None;
            let mut login = Login::begin(Arc::clone(self.site), request.clone(), "REF".into(), 1, NOON);
            let mut now = NOON;
            loop {
                match login.next() {
                    Next::Ask(need) => {
                        let all = answers(&need, kept);
                        let at = widths.len();
                        assert!(at < LONGEST, "no end in sight: {:?}", now_said.asked);
                        if at == path.len() {
                            path.push(0);
                        }
                        let fact = all[path[at]].clone();
                        widths.push(all.len());
                        now_said.note(&need, &fact);
                        if let (Need::KeepChallenge(kept), Fact::Kept(KeptAnswer::Kept(_))) = (&need, &fact) {
                            pending = Some(kept.clone());
                        }
                        login.learn(fact, now);
                    }
                    Next::Wait(until, _) => {
                        now = now.max(until);
                        login.wake(now);
                    }
                    Next::Decided => break,
                }
            }
            let (verdict, trace) = login.finish(Resends::default(), now);
            self.check(&verdict, &now_said, &trace);
            if let (Verdict::Challenge(_), Some(pending), true) = (&verdict, pending, left > 0) {
                for text in self.typed {
                    let mut answer = super::tests::request(self.site, "breakwater", "ines", text.as_bytes());
                    answer.state = Some(vec![7]);
                    self.round(&answer, Some(&pending), &now_said, left - 1);
                }
            }
            // The next path: the last question that has another answer gets it.
            while let (Some(last), true) = (path.last().copied(), !path.is_empty()) {
                if last + 1 < widths[path.len() - 1] {
                    path.pop();
                    path.push(last + 1);
                    break;
                }
                path.pop();
            }
            if path.is_empty() {
                return;
            }
        }
    }

    fn check(&mut self, verdict: &Verdict, said: &Said, trace: &bivector_model::trace::Trace) {
        self.explored.paths += 1;
        let path = || format!("{:?}\n{:#?}", said.asked, trace.steps);
        assert!(said.passwords <= 1, "more than one password guess: {}", path());
        assert!(said.approvals <= 1 && said.before_password <= 1, "more than one approval: {}", path());
        match verdict {
            Verdict::Accept(accept) => {
                self.explored.accepted += 1;
                assert!(said.first, "accepted without the first factor: {}", path());
                let waived = matches!(accept.second(), Second::Waived(_));
                assert!(said.second || waived, "accepted without the second factor: {}", path());
                let chain = self.site.chains.iter().find(|chain| chain.name == "staff").unwrap();
                let may = chain.second.is_empty() || chain.when_second_is_down == bivector_site::WhenSecondIsDown::FirstOnly;
                assert!(!waived || may, "waived although the site waives nothing: {}", path());
            }
            Verdict::Challenge(_) => self.explored.challenged += 1,
            Verdict::Refuse(refusal) => assert_eq!(Some(refusal.cause), trace.cause, "{}", path()),
        }
    }
}

fn explore(site: &Arc<Site>, text: &str, typed: &[&str], rounds: usize) -> Explored {
    let mut explorer = Explorer { site, typed, rounds, explored: Explored::default() };
    let request = super::tests::request(site, "breakwater", "ines", text.as_bytes());
    let left = explorer.rounds;
    explorer.round(&request, None, &Said::default(), left);
    explorer.explored
}

const SECOND: &str = "second = [\"totp\"]\nwhen_unclear = \"code\"";
const FORMS: (&str, &str) = ("forms = [\"password code(6)\", \"password\"]", "forms = [\"password\"]");

#[test]
fn whatever_sources_and_records_say_a_password_and_a_code_need_both_proofs() {
    let right = format!("barnacle{}", code(0));
    for text in [right.as_str(), "barnacle000000", "barnacle", ""] {
        let explored = explore(&site(&[]), text, &[], 0);
        assert_eq!(explored.accepted > 0, text == right, "{text}: {explored:?}");
        assert!(explored.paths > 3, "{text}: {explored:?}");
    }
}

#[test]
fn whatever_is_answered_at_prompts_nobody_gets_in_by_half() {
    let site = prompting("second = [\"totp\", \"pager\"]\nwhen_unclear = \"plain\"", &[FORMS]);
    let right = code(0);
    let explored = explore(&site, "barnacle", &[&right, "999999", "2", SENT, ""], 2);
    assert!(explored.accepted > 0 && explored.challenged > 0 && explored.paths > 1000, "{explored:?}");
}

#[test]
fn whatever_handsets_answer_there_is_one_approval_and_no_way_around_it() {
    let site = site(&[(SECOND, "second = [\"approval\"]\nwhen_several = \"first\""), FORMS]);
    let explored = explore(&site, "barnacle", &[], 0);
    assert!(explored.accepted > 0 && explored.paths > 50, "{explored:?}");
    let prompts = self::site_with_prompts_and_approvals();
    let right = code(0);
    let explored = explore(&prompts, "barnacle", &["", &right, "999999"], 2);
    assert!(explored.accepted > 0 && explored.challenged > 0, "{explored:?}");
}

fn site_with_prompts_and_approvals() -> Arc<Site> {
    let second = "second = [\"approval\", \"totp\"]\nwhen_several = \"first\"\nwhen_unanswered = \"next\"\nwhen_unclear = \"plain\"";
    prompting(second, &[FORMS])
}

#[test]
fn a_second_factor_that_is_down_is_waived_only_where_the_site_says_so() {
    for (word, waives) in [("refuse", false), ("first-only", true)] {
        let second = format!("second = [\"pager\"]\nwhen_several = \"first\"\nwhen_second_is_down = \"{word}\"");
        let site = prompting(&second, &[FORMS]);
        let explored = explore(&site, "barnacle", &[], 0);
        assert_eq!(explored.accepted > 0, waives, "{word}: {explored:?}");
    }
}
