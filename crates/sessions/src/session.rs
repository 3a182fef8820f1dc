//! One session: what its reports, in whatever order they come, make of it.

use crate::ended::Ended;
use crate::report::{Report, ReportKind, Traffic};
use bivector_model::Moment;
use std::time::Duration;

/// By how much the beginnings may differ that two reports of the same session tell: gateways write the time when they send.
const SAME: Duration = Duration::from_secs(120);

/// A session of a gateway.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Session {
    /// The gateway's name for it.
    pub session: String,
    /// The name that it is under.
    pub name: String,
    /// The login that it came from.
    pub reference: Option<String>,
    /// The addresses that the user has.
    pub addresses: Vec<String>,
    /// Where the user comes from.
    pub caller: String,
    /// What the user called.
    pub called: String,
    /// The port of the gateway.
    pub port: String,
    /// When it began.
    pub began: Moment,
    /// When the gateway last told of it.
    pub heard: Moment,
    /// When and how it ended.
    pub ended: Option<(Moment, Ended)>,
    /// What went over the line.
    pub traffic: Traffic,
    /// Something in its reports that cannot be right, for people.
    pub odd: Option<String>,
}

/// What a report means for the session of its name.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Taken {
    /// It is about this session, which has changed accordingly.
    Same,
    /// It is about another session that has the same name: this one is over.
    Another,
}

impl Session {
    /// The session that a first report tells of.
    pub fn of(report: &Report) -> Self {
        let lasted = report.lasted.unwrap_or_default();
        let mut session = Session {
            session: report.session.clone(),
            name: report.name.clone(),
            reference: report.reference.clone(),
            addresses: report.addresses.clone(),
            caller: report.caller.clone(),
            called: report.called.clone(),
            port: report.port.clone(),
            began: before(report.at, lasted),
            heard: report.at,
            ended: None,
            traffic: report.traffic.unwrap_or_default(),
            odd: report.odd.clone(),
        };
        if report.kind == ReportKind::Stop {
            session.ended = Some((report.at, Ended::Reported { cause: report.cause.unwrap_or_default() }));
        }
        session
    }

    /// Takes a further report of the same name. The same report twice, or reports in another order, end in the same session.
    pub fn take(&mut self, report: &Report) -> Taken {
        if self.is_another(report) {
            if self.ended.is_none() {
                self.ended = Some((report.at, Ended::Replaced));
            }
            return Taken::Another;
        }
        self.fill(report);
        if let Some(lasted) = report.lasted {
            self.began = self.began.min(before(report.at, lasted));
        } else if report.kind == ReportKind::Start {
            self.began = self.began.min(report.at);
        }
        self.count(report);
        let late = report.at < self.heard;
        self.heard = self.heard.max(report.at);
        match (report.kind, self.ended) {
            (ReportKind::Stop, ended) => {
                let cause = report.cause.unwrap_or_default();
                // The gateway knows best; what it said first stands.
                if !matches!(ended, Some((_, Ended::Reported { .. }))) {
                    self.ended = Some((report.at, Ended::Reported { cause }));
                }
            }
            // It was thought lost, and is there.
            (_, Some((_, Ended::Lost))) if !late => self.ended = None,
            _ => {}
        }
        Taken::Same
    }

    /// Whether a report is about a later session of the same name.
    fn is_another(&self, report: &Report) -> bool {
        if report.kind != ReportKind::Start {
            return false;
        }
        let began = before(report.at, report.lasted.unwrap_or_default());
        match self.ended {
            // A start that comes after the end, and was not merely late.
            Some((at, Ended::Lost)) => began > at && began > self.began.plus(SAME),
            Some((at, _)) => began > at,
            None => {
                let differs = |own: &str, theirs: &str| !own.is_empty() && !theirs.is_empty() && own != theirs;
                differs(&self.name, &report.name) || differs(&self.caller, &report.caller) && began > self.began.plus(SAME)
            }
        }
    }

    /// What earlier reports did not say.
    fn fill(&mut self, report: &Report) {
        let fill = |own: &mut String, theirs: &str| {
            if own.is_empty() {
                theirs.clone_into(own);
            }
        };
        fill(&mut self.name, &report.name);
        fill(&mut self.caller, &report.caller);
        fill(&mut self.called, &report.called);
        fill(&mut self.port, &report.port);
        if self.reference.is_none() {
            self.reference.clone_from(&report.reference);
        }
        // Many gateways know the address only some time after the beginning.
        if !report.addresses.is_empty() && report.at >= self.heard {
            self.addresses.clone_from(&report.addresses);
        }
        if self.odd.is_none() {
            self.odd.clone_from(&report.odd);
        }
    }

    /// Counters only grow. Where they do not, the larger ones stand.
    fn count(&mut self, report: &Report) {
        let Some(new) = report.traffic else { return };
        let old = self.traffic;
        let shrank = new.bytes_in < old.bytes_in || new.bytes_out < old.bytes_out;
        if shrank && report.at > self.heard {
            self.odd = Some("its counters ran backwards: the largest values stand".to_owned());
        }
        self.traffic = Traffic {
            bytes_in: new.bytes_in.max(old.bytes_in),
            bytes_out: new.bytes_out.max(old.bytes_out),
            packets_in: new.packets_in.max(old.packets_in),
            packets_out: new.packets_out.max(old.packets_out),
        };
    }
}

fn before(at: Moment, span: Duration) -> Moment {
    Moment::from_micros(at.micros().saturating_sub(u64::try_from(span.as_micros()).unwrap_or(u64::MAX)))
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn report(kind: ReportKind, at: u64, bytes: u64) -> Report {
        Report {
            kind,
            session: "4f-1".into(),
            name: "ines".into(),
            reference: None,
            addresses: vec!["192.0.2.77".into()],
            caller: "198.51.100.7".into(),
            called: String::new(),
            port: "9".into(),
            at: Moment::from_secs(at),
            lasted: (kind != ReportKind::Start).then(|| Duration::from_secs(at - 1_000)),
            traffic: (kind != ReportKind::Start).then(|| Traffic { bytes_in: bytes, ..Traffic::default() }),
            cause: (kind == ReportKind::Stop).then_some(1),
            odd: None,
        }
    }

    fn usual() -> [Report; 4] {
        use ReportKind::{Interim, Start, Stop};
        [report(Start, 1_000, 0), report(Interim, 1_060, 10), report(Interim, 1_120, 20), report(Stop, 1_150, 25)]
    }

    proptest! {
        #[test]
        fn whatever_the_order_and_however_often_the_session_is_the_same(order in Just((0..4_usize).collect::<Vec<_>>()).prop_shuffle(), again in 0..4_usize) {
            let reports = usual();
            let mut session = Session::of(&reports[order[0]]);
            for index in order.iter().skip(1).chain([&again]) {
                prop_assert_eq!(session.take(&reports[*index]), Taken::Same);
            }
            prop_assert_eq!(session.began, Moment::from_secs(1_000));
            prop_assert_eq!(session.ended, Some((Moment::from_secs(1_150), Ended::Reported { cause: 1 })));
            prop_assert_eq!((session.traffic.bytes_in, session.heard), (25, Moment::from_secs(1_150)));
            prop_assert_eq!(session.odd, None);
        }
    }

    #[test]
    fn a_stop_without_a_start_is_a_session_that_began_when_it_says() {
        let session = Session::of(&report(ReportKind::Stop, 1_150, 25));
        assert_eq!((session.began, session.ended.is_some()), (Moment::from_secs(1_000), true));
    }

    #[test]
    fn a_start_after_the_end_is_another_session_and_a_late_one_is_not() {
        let [start, _, _, stop] = usual();
        let mut session = Session::of(&start);
        session.take(&stop);
        assert_eq!(session.clone().take(&start), Taken::Same, "the same start, late");
        assert_eq!(session.take(&report(ReportKind::Start, 9_000, 0)), Taken::Another);
        assert_eq!(session.ended, Some((Moment::from_secs(1_150), Ended::Reported { cause: 1 })), "its own end stands");
    }

    #[test]
    fn a_second_start_under_another_name_replaces_the_session() {
        let mut session = Session::of(&usual()[0]);
        let other = Report { name: "yuki".into(), ..report(ReportKind::Start, 1_010, 0) };
        assert_eq!(session.take(&other), Taken::Another);
        assert_eq!(session.ended, Some((Moment::from_secs(1_010), Ended::Replaced)));
        let mut session = Session::of(&usual()[0]);
        assert_eq!(session.take(&report(ReportKind::Start, 1_005, 0)), Taken::Same, "the gateway said it twice");
    }

    #[test]
    fn a_lost_session_that_is_heard_of_goes_on_and_a_reported_end_counts_more() {
        let lost = || {
            let mut session = Session::of(&usual()[0]);
            session.ended = Some((Moment::from_secs(1_050), Ended::Lost));
            session
        };
        let mut session = lost();
        session.take(&usual()[1]);
        assert_eq!(session.ended, None);
        let mut session = lost();
        session.take(&usual()[3]);
        assert_eq!(session.ended, Some((Moment::from_secs(1_150), Ended::Reported { cause: 1 })));
    }

    #[test]
    fn counters_that_run_backwards_are_told_and_change_nothing() {
        let mut session = Session::of(&usual()[0]);
        session.take(&report(ReportKind::Interim, 1_060, 500));
        session.take(&report(ReportKind::Interim, 1_120, 3));
        assert_eq!((session.traffic.bytes_in, session.odd.is_some()), (500, true));
    }
}
