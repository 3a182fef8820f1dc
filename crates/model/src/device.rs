//! What makes a person's codes: an app or token by time or by count, a list of recovery codes, a temporary code.

use crate::moment::Moment;
use crate::totp::{Settings, code};
use bivector_wire::Secret;
use serde::{Deserialize, Serialize};
use std::fmt;
use std::time::Duration;
use subtle::ConstantTimeEq;
use utoipa::ToSchema;

/// How far around the window a wrong code is looked for, in steps, to tell a wrong clock from a wrong code.
const DRIFT_SEARCH: u64 = 40;
/// Counters behind the present one that are looked at, to tell a used code from a wrong one.
const COUNTS_BACK: u64 = 10;
/// A used code stays marked this long after it could last have worked, in case the clock is set back.
const MARK_KEPT: Duration = Duration::from_secs(24 * 3600);

/// A kind of code, as chains list it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum CodeKind {
    /// By time (RFC 6238).
    Totp,
    /// By count (RFC 4226).
    Hotp,
    /// From a list that the person keeps, each once.
    Recovery,
    /// Issued by an operator until some moment.
    Temporary,
}

impl CodeKind {
    /// All of them.
    pub const ALL: &[CodeKind] = &[CodeKind::Totp, CodeKind::Hotp, CodeKind::Recovery, CodeKind::Temporary];

    /// Its name in site files and records.
    pub fn name(self) -> &'static str {
        match self {
            CodeKind::Totp => "totp",
            CodeKind::Hotp => "hotp",
            CodeKind::Recovery => "recovery",
            CodeKind::Temporary => "temporary",
        }
    }
}

impl fmt::Display for CodeKind {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.name())
    }
}

/// How generously codes are read; the site says it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct CodeLimits {
    /// Steps to each side in which a code by time is right.
    pub window: u64,
    /// Steps that a device's clock may be off at most, as remembered from its codes.
    pub drift: u64,
    /// Counters ahead in which a code by count is right.
    pub look_ahead: u64,
    /// Counters ahead in which two codes in a row bring a device back.
    pub resync: u64,
}

impl Default for CodeLimits {
    fn default() -> Self {
        CodeLimits { window: 1, drift: 10, look_ahead: 10, resync: 100 }
    }
}

/// One of a person's devices or lists.
#[derive(Debug, Clone)]
pub struct Device {
    /// Its record number: what a used code is marked under.
    pub id: u64,
    /// What the person calls it.
    pub label: String,
    /// Whether a PIN was set for it.
    pub has_pin: bool,
    /// How its codes come about.
    pub makes: Makes,
}

/// How codes come about.
#[derive(Debug, Clone)]
pub enum Makes {
    /// By time.
    ByTime {
        /// The shared key.
        seed: Secret<Vec<u8>>,
        /// What was agreed.
        settings: Settings,
        /// How many steps its clock was off when it was last right; negative is late.
        drift: i64,
    },
    /// By count.
    ByCount {
        /// The shared key.
        seed: Secret<Vec<u8>>,
        /// What was agreed; the period means nothing.
        settings: Settings,
        /// The first counter that has not been used.
        counter: u64,
        /// A counter far ahead whose code was right: the next one after it brings the device back.
        ahead: Option<u64>,
    },
    /// A list of codes, each good once.
    List {
        /// The codes.
        codes: Secret<Vec<String>>,
        /// A bit for each that was used.
        used: u64,
    },
    /// One code for some time.
    Issued {
        /// The code.
        code: Secret<String>,
        /// When it ends.
        until: Moment,
        /// How often it may still be used.
        left: u32,
    },
}

/// How a code is taken out of use.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Used {
    /// A step of time, never again; the mark is kept at least until then.
    Step {
        /// The step.
        step: u64,
        /// Until when its mark must be kept.
        until: Moment,
        /// How many steps the device's clock is off.
        drift: i64,
    },
    /// This counter and all before it.
    Counter(u64),
    /// An entry of a list.
    Entry(u8),
    /// One use of a temporary code.
    Turn,
    /// A handset's yes: nothing is used up, but the handset must still be there.
    Approval,
}

/// A code that was right for a device. Only [`Device::verify`] makes one.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct VerifiedCode {
    device: u64,
    kind: CodeKind,
    has_pin: bool,
    used: Used,
    offset: i64,
}

impl VerifiedCode {
    /// The record number of the device.
    pub fn device(&self) -> u64 {
        self.device
    }

    /// What kind of code it is.
    pub fn kind(&self) -> CodeKind {
        self.kind
    }

    /// Whether a PIN was set for the device.
    pub fn has_pin(&self) -> bool {
        self.has_pin
    }

    /// How it is to be taken out of use.
    pub fn used(&self) -> Used {
        self.used
    }

    /// Steps or counters between the code and the one expected: negative is an older code.
    pub fn offset(&self) -> i64 {
        self.offset
    }
}

/// A code that is the person's, but may not be used.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Near {
    /// Of another time: seconds between its time and now, negative if it is older.
    Drifted(i64),
    /// Of a counter far ahead; the next code of the device would bring it back.
    Ahead {
        /// The device.
        device: u64,
        /// Its counter.
        counter: u64,
    },
    /// Used before.
    Used,
    /// A temporary code that has ended.
    Ended,
}

/// Where a device is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Place {
    /// So many steps its clock is off; negative is late.
    Drift(i64),
    /// Its next counter.
    Counter(u64),
}

impl Device {
    /// An app or token by time whose clock is right.
    pub fn by_time(id: u64, label: &str, seed: Secret<Vec<u8>>, settings: Settings) -> Self {
        Device { id, label: label.to_owned(), has_pin: false, makes: Makes::ByTime { seed, settings, drift: 0 } }
    }

    /// What two codes in a row say of where a device is: the drift of its clock in steps, or its next counter. Lists have no place.
    pub fn place_of(&self, first: &str, second: &str, now: Moment, limits: &CodeLimits) -> Option<Place> {
        let follow = |seed: &Secret<Vec<u8>>, settings: &Settings, at: u64| {
            same(&code(seed.expose(), at, *settings), first) && same(&code(seed.expose(), at + 1, *settings), second)
        };
        match &self.makes {
            Makes::ByTime { seed, settings, .. } => {
                let current = settings.step_at(now);
                let mut around = steps_around(current, 0, limits.drift.max(DRIFT_SEARCH));
                let step = around.find(|step| follow(seed, settings, *step))?;
                Some(Place::Drift(step as i64 + 1 - current as i64))
            }
            Makes::ByCount { seed, settings, counter, .. } => {
                let at = (*counter..=counter + limits.resync.max(1000)).find(|at| follow(seed, settings, *at))?;
                Some(Place::Counter(at + 2))
            }
            Makes::List { .. } | Makes::Issued { .. } => None,
        }
    }

    /// What kind of code it makes.
    pub fn kind(&self) -> CodeKind {
        match self.makes {
            Makes::ByTime { .. } => CodeKind::Totp,
            Makes::ByCount { .. } => CodeKind::Hotp,
            Makes::List { .. } => CodeKind::Recovery,
            Makes::Issued { .. } => CodeKind::Temporary,
        }
    }

    /// Digits of its codes.
    pub fn digits(&self) -> u8 {
        match &self.makes {
            Makes::ByTime { settings, .. } | Makes::ByCount { settings, .. } => settings.digits,
            Makes::List { codes, .. } => codes.expose().first().map_or(0, |code| code.len() as u8),
            Makes::Issued { code, .. } => code.expose().len() as u8,
        }
    }

    /// Whether it has a code that could still be right.
    pub fn can_be_used(&self, now: Moment) -> bool {
        match &self.makes {
            Makes::ByTime { .. } | Makes::ByCount { .. } => true,
            Makes::List { codes, used } => (used.count_ones() as usize) < codes.expose().len(),
            Makes::Issued { until, left, .. } => *left > 0 && now <= *until,
        }
    }

    /// Checks a typed code at `now`; for codes by time the nearest step counts, for codes by count the first.
    pub fn verify(&self, typed: &str, now: Moment, limits: &CodeLimits) -> Option<VerifiedCode> {
        if !self.fits(typed) {
            return None;
        }
        self.live(now, limits).find(|(live, ..)| same(live, typed)).map(|(_, verified)| verified)
    }

    /// All codes that would be right now, each with what it would prove: for proofs that do not tell the text.
    pub fn live(&self, now: Moment, limits: &CodeLimits) -> impl Iterator<Item = (String, VerifiedCode)> {
        let verified = |used, offset| VerifiedCode { device: self.id, kind: self.kind(), has_pin: self.has_pin, used, offset };
        let (mut by_time, mut by_count, mut list, mut issued) = (None, None, None, None);
        match &self.makes {
            Makes::ByTime { seed, settings, drift } => {
                let (current, farthest) = (settings.step_at(now), limits.drift as i64);
                let centre = current.saturating_add_signed((*drift).clamp(-farthest, farthest));
                // Around where the clock was last, and around where it should be: a clock that was set right works at once.
                let window = limits.window;
                let expected = steps_around(current, 0, window).filter(move |step| step.abs_diff(centre) > window);
                by_time = Some(steps_around(centre, 0, window).chain(expected).map(move |step| {
                    let offset = step as i64 - current as i64;
                    let until = Moment::from_secs((step + limits.window + limits.drift + 1) * u64::from(settings.period)).plus(MARK_KEPT);
                    let used = Used::Step { step, until, drift: offset.clamp(-farthest, farthest) };
                    (code(seed.expose(), step, *settings), verified(used, offset))
                }));
            }
            Makes::ByCount { seed, settings, counter, ahead } => {
                let next = ahead.map(|ahead| ahead + 1).filter(|next| *next > counter + limits.look_ahead);
                by_count =
                    Some((*counter..=counter + limits.look_ahead).chain(next).map(move |count| {
                        (code(seed.expose(), count, *settings), verified(Used::Counter(count), (count - counter) as i64))
                    }));
            }
            Makes::List { codes, used } => {
                let fresh = move |(at, _): &(usize, &String)| *at < 64 && used >> at & 1 == 0;
                list = Some(
                    codes
                        .expose()
                        .iter()
                        .enumerate()
                        .filter(fresh)
                        .map(move |(at, code)| (code.clone(), verified(Used::Entry(at as u8), 0))),
                );
            }
            Makes::Issued { code, .. } => {
                issued = self.can_be_used(now).then(|| (code.expose().clone(), verified(Used::Turn, 0)));
            }
        }
        by_time.into_iter().flatten().chain(by_count.into_iter().flatten()).chain(list.into_iter().flatten()).chain(issued)
    }

    /// Why a code that did not verify may still be the person's.
    pub fn near(&self, typed: &str, now: Moment, limits: &CodeLimits) -> Option<Near> {
        if !self.fits(typed) {
            return None;
        }
        match &self.makes {
            Makes::ByTime { seed, settings, drift } => {
                let (current, farthest) = (settings.step_at(now), limits.drift as i64);
                let centre = current.saturating_add_signed((*drift).clamp(-farthest, farthest));
                let around = steps_around(centre, limits.window + 1, limits.window + DRIFT_SEARCH);
                let step = { around }.find(|step| same(&code(seed.expose(), *step, *settings), typed))?;
                Some(Near::Drifted((step as i64 - current as i64) * i64::from(settings.period)))
            }
            Makes::ByCount { seed, settings, counter, .. } => {
                let is = |count: &u64| same(&code(seed.expose(), *count, *settings), typed);
                if (counter.saturating_sub(COUNTS_BACK)..*counter).any(|count| is(&count)) {
                    return Some(Near::Used);
                }
                let counter = (counter + limits.look_ahead + 1..=counter + limits.resync).find(is)?;
                Some(Near::Ahead { device: self.id, counter })
            }
            Makes::List { codes, .. } => codes.expose().iter().any(|code| same(code, typed)).then_some(Near::Used),
            Makes::Issued { code, until, .. } => same(code.expose(), typed).then_some(if now > *until { Near::Ended } else { Near::Used }),
        }
    }

    fn fits(&self, typed: &str) -> bool {
        typed.len() == usize::from(self.digits()) && typed.bytes().all(|byte| byte.is_ascii_digit())
    }
}

fn same(one: &str, other: &str) -> bool {
    one.as_bytes().ct_eq(other.as_bytes()).into()
}

/// The steps at distance `from..=to` of `current`, nearest first, older before newer.
fn steps_around(current: u64, from: u64, to: u64) -> impl Iterator<Item = u64> {
    (from..=to).flat_map(move |distance| {
        let newer = (distance > 0).then_some(current + distance);
        current.checked_sub(distance).into_iter().chain(newer)
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    const SEED: &[u8] = b"12345678901234567890";
    const NOW: Moment = Moment::from_secs(1_700_000_010);

    fn device(makes: Makes) -> Device {
        Device { id: 1, label: "token".into(), has_pin: false, makes }
    }

    fn by_time(drift: i64) -> Device {
        device(Makes::ByTime { seed: Secret::new(SEED.to_vec()), settings: Settings::default(), drift })
    }

    fn by_count(counter: u64, ahead: Option<u64>) -> Device {
        device(Makes::ByCount { seed: Secret::new(SEED.to_vec()), settings: Settings::default(), counter, ahead })
    }

    fn code_at(step: u64) -> String {
        code(SEED, step, Settings::default())
    }

    #[test]
    fn a_code_is_right_inside_the_window_drifted_around_it_and_wrong_beyond() {
        let (device, limits, current) = (by_time(0), CodeLimits::default(), NOW.secs() / 30);
        for (offset, right, drifted) in
            [(0i64, true, false), (-1, true, false), (1, true, false), (-2, false, true), (41, false, true), (-42, false, false)]
        {
            let typed = code_at(current.wrapping_add_signed(offset));
            assert_eq!(device.verify(&typed, NOW, &limits).map(|code| code.offset()), right.then_some(offset));
            assert_eq!(device.near(&typed, NOW, &limits), drifted.then_some(Near::Drifted(offset * 30)), "offset {offset}");
        }
        for typed in ["", "12345", "1234567", "abcdef", "１２３４５６"] {
            assert!(device.verify(typed, NOW, &limits).is_none() && device.near(typed, NOW, &limits).is_none());
        }
        assert_eq!(
            by_time(0).verify(&code_at(1), Moment::from_secs(0), &limits).map(|code| code.offset()),
            Some(1),
            "no step before the first"
        );
    }

    #[test]
    fn a_clock_that_is_off_is_followed_from_code_to_code_up_to_a_limit() {
        let (limits, current) = (CodeLimits::default(), NOW.secs() / 30);
        let at = |offset: i64| code_at(current.wrapping_add_signed(offset));
        let Used::Step { drift, .. } = by_time(-1).verify(&at(-2), NOW, &limits).unwrap().used() else { panic!() };
        assert_eq!(drift, -2, "the next code is looked for around two steps back");
        assert!(by_time(-2).verify(&at(-3), NOW, &limits).is_some() && by_time(0).verify(&at(-3), NOW, &limits).is_none());
        assert!(by_time(-5).verify(&at(1), NOW, &limits).is_some(), "a clock that was set right works at once");
        assert!(by_time(-5).verify(&at(-2), NOW, &limits).is_none());
        let Used::Step { drift, .. } = by_time(-10).verify(&at(-11), NOW, &limits).unwrap().used() else { panic!() };
        assert_eq!(drift, -10);
        assert!(by_time(-50).verify(&at(-12), NOW, &limits).is_none(), "no further than the site allows, whatever was remembered");
    }

    #[test]
    fn codes_by_count_go_forward_only_and_two_in_a_row_bring_a_device_back() {
        let limits = CodeLimits::default();
        let device = by_count(5, None);
        let counted = |typed: &str, device: &Device| device.verify(typed, NOW, &limits).map(|code| code.used());
        assert_eq!(counted(&code_at(5), &device), Some(Used::Counter(5)));
        assert_eq!(counted(&code_at(15), &device), Some(Used::Counter(15)));
        assert_eq!(counted(&code_at(16), &device), None);
        assert_eq!(device.near(&code_at(4), NOW, &limits), Some(Near::Used));
        assert_eq!(device.near(&code_at(16), NOW, &limits), Some(Near::Ahead { device: 1, counter: 16 }));
        assert_eq!(device.near(&code_at(106), NOW, &limits), None);
        let remembered = by_count(5, Some(60));
        assert_eq!(counted(&code_at(60), &remembered), None, "the same code again proves nothing new");
        assert_eq!(counted(&code_at(61), &remembered), Some(Used::Counter(61)));
    }

    #[test]
    fn two_codes_in_a_row_say_where_a_device_is() {
        let (limits, current) = (CodeLimits::default(), NOW.secs() / 30);
        assert_eq!(by_time(0).place_of(&code_at(current - 7), &code_at(current - 6), NOW, &limits), Some(Place::Drift(-6)));
        assert_eq!(by_time(0).place_of(&code_at(current), &code_at(current), NOW, &limits), None, "the same code twice proves nothing");
        assert_eq!(by_count(5, None).place_of(&code_at(300), &code_at(301), NOW, &limits), Some(Place::Counter(302)));
        assert_eq!(by_count(5, None).place_of(&code_at(3), &code_at(4), NOW, &limits), None, "never back");
    }

    #[test]
    fn lists_and_issued_codes_are_good_as_often_as_they_say() {
        let limits = CodeLimits::default();
        let list = device(Makes::List { codes: Secret::new(vec!["1111100000".into(), "2222200000".into()]), used: 0b01 });
        assert_eq!(list.verify("2222200000", NOW, &limits).unwrap().used(), Used::Entry(1));
        assert_eq!((list.verify("1111100000", NOW, &limits), list.near("1111100000", NOW, &limits)), (None, Some(Near::Used)));
        let issued = |left, until| device(Makes::Issued { code: Secret::new("12345678".into()), until: Moment::from_secs(until), left });
        assert_eq!(issued(1, 1_800_000_000).verify("12345678", NOW, &limits).unwrap().used(), Used::Turn);
        assert_eq!(issued(1, 1_600_000_000).near("12345678", NOW, &limits), Some(Near::Ended));
        assert_eq!(issued(0, 1_800_000_000).near("12345678", NOW, &limits), Some(Near::Used));
        assert!(issued(0, 1_800_000_000).verify("12345678", NOW, &limits).is_none() && !issued(0, 1_800_000_000).can_be_used(NOW));
    }
}
