//! Limits and a circuit breaker for each push service: one that is slow or down holds up its own messages only.

use crate::Sent;
use std::collections::HashMap;
use std::fmt::Write;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;
use tokio::sync::Semaphore;
use tokio::time::Instant;

/// Messages on their way to one push service at the same time.
const AT_ONCE: usize = 64;
/// Messages that may wait for their turn at one push service.
const IN_LINE: usize = 4096;
/// Push services that are remembered at most.
const SERVICES: usize = 256;
/// Failures in a row after which a push service is left alone.
const FAILURES: u32 = 5;
/// How long it is left alone at first; twice as long each time, up to the longest.
const FIRST_PAUSE: Duration = Duration::from_secs(5);
const LONGEST_PAUSE: Duration = Duration::from_secs(300);

/// One push service.
#[derive(Debug)]
struct Gate {
    turns: Arc<Semaphore>,
    in_line: usize,
    failures: u32,
    closed_until: Option<Instant>,
    why: String,
}

impl Default for Gate {
    fn default() -> Self {
        Gate { turns: Arc::new(Semaphore::new(AT_ONCE)), in_line: 0, failures: 0, closed_until: None, why: String::new() }
    }
}

impl Gate {
    fn is_idle(&self, now: Instant) -> bool {
        self.in_line == 0 && self.failures == 0 && self.closed_until.is_none_or(|until| until <= now)
    }

    /// Why nothing is sent now.
    fn closed(&self, now: Instant) -> Option<String> {
        let until = self.closed_until.filter(|until| *until > now)?;
        Some(format!("{}; nothing is sent to it for another {} s", self.why, (until - now).as_secs().max(1)))
    }

    fn learn(&mut self, sent: &Sent, now: Instant) {
        match sent {
            Sent::Busy { status, pause, .. } => {
                self.closed_until = Some(now + *pause);
                self.why = format!("the push service asks to wait ({status})");
            }
            Sent::Unanswered { of_service: true, seen, .. } => {
                self.failures += 1;
                if self.failures >= FAILURES {
                    let doubled = FIRST_PAUSE * 2_u32.saturating_pow((self.failures - FAILURES).min(6));
                    self.closed_until = Some(now + doubled.min(LONGEST_PAUSE));
                    self.why.clear();
                    let _ = write!(self.why, "the push service has failed {} times in a row: {seen}", self.failures);
                }
            }
            // It answers, whatever it thinks of this message.
            Sent::Accepted { .. } | Sent::Gone { .. } | Sent::Unanswered { .. } => (self.failures, self.closed_until) = (0, None),
            Sent::Failed(_) => {}
        }
    }
}

/// All push services that were asked lately.
#[derive(Debug, Default)]
pub struct Gates {
    gates: Mutex<HashMap<String, Gate>>,
}

impl Gates {
    /// Sends a message to a service when it is its turn, unless the service is left alone or too many wait.
    pub async fn pass(&self, origin: &str, send: impl Future<Output = Sent>) -> Sent {
        let turns = match self.enter(origin) {
            Ok(turns) => turns,
            Err(why) => return Sent::Failed(why),
        };
        let turn = turns.acquire().await;
        // Whoever waited may find that the service has failed meanwhile.
        let sent = match self.with(origin, |gate| gate.closed(Instant::now())) {
            Some(why) => Sent::Failed(why),
            None => send.await,
        };
        drop(turn);
        self.with(origin, |gate| {
            gate.in_line = gate.in_line.saturating_sub(1);
            gate.learn(&sent, Instant::now());
        });
        sent
    }

    /// Services that are left alone now, and why.
    pub fn closed(&self) -> Vec<(String, String)> {
        let gates = self.gates.lock().unwrap_or_else(PoisonError::into_inner);
        let now = Instant::now();
        gates.iter().filter_map(|(origin, gate)| Some((origin.clone(), gate.closed(now)?))).collect()
    }

    fn enter(&self, origin: &str) -> Result<Arc<Semaphore>, String> {
        let mut gates = self.gates.lock().unwrap_or_else(PoisonError::into_inner);
        let now = Instant::now();
        if !gates.contains_key(origin) && gates.len() >= SERVICES {
            gates.retain(|_, gate| !gate.is_idle(now));
            if gates.len() >= SERVICES {
                return Err("messages to too many push services are on their way".into());
            }
        }
        let gate = gates.entry(origin.to_owned()).or_default();
        if let Some(why) = gate.closed(now) {
            return Err(why);
        }
        if gate.in_line >= IN_LINE {
            return Err("too many messages wait for this push service".into());
        }
        gate.in_line += 1;
        Ok(Arc::clone(&gate.turns))
    }

    fn with<T: Default>(&self, origin: &str, change: impl FnOnce(&mut Gate) -> T) -> T {
        let mut gates = self.gates.lock().unwrap_or_else(PoisonError::into_inner);
        gates.get_mut(origin).map(change).unwrap_or_default()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const ONE: &str = "https://push.example.net";
    const OTHER: &str = "https://push.example.org";
    const TOOK: Duration = Duration::from_millis(1);

    fn down() -> Sent {
        Sent::Unanswered { seen: "no answer in time".into(), of_service: true, took: TOOK }
    }

    async fn pass(gates: &Gates, origin: &str, sent: Sent) -> Sent {
        gates.pass(origin, async { sent }).await
    }

    #[tokio::test(start_paused = true)]
    async fn a_service_that_fails_is_left_alone_longer_each_time_and_others_are_not() {
        let gates = Gates::default();
        for _ in 0..FAILURES {
            assert_eq!(pass(&gates, ONE, down()).await, down());
        }
        let said = pass(&gates, ONE, Sent::Accepted { took: TOOK }).await.said("");
        assert_eq!(said, "the push service has failed 5 times in a row: no answer in time; nothing is sent to it for another 5 s");
        assert!(pass(&gates, OTHER, Sent::Accepted { took: TOOK }).await.is_accepted());
        assert_eq!(gates.closed().len(), 1);
        tokio::time::sleep(FIRST_PAUSE).await;
        assert_eq!(pass(&gates, ONE, down()).await, down(), "one is tried");
        assert!(pass(&gates, ONE, down()).await.said("").ends_with("another 10 s"));
        tokio::time::sleep(FIRST_PAUSE * 2).await;
        assert!(pass(&gates, ONE, Sent::Accepted { took: TOOK }).await.is_accepted());
        assert_eq!(pass(&gates, ONE, down()).await, down(), "it is trusted again");
        assert_eq!(gates.closed(), []);
    }

    #[tokio::test(start_paused = true)]
    async fn a_service_that_asks_to_wait_is_left_alone_for_just_that_long() {
        let gates = Gates::default();
        let busy = Sent::Busy { status: 429, pause: Duration::from_secs(60), took: TOOK };
        assert_eq!(pass(&gates, ONE, busy.clone()).await, busy);
        tokio::time::sleep(Duration::from_secs(59)).await;
        assert_eq!(pass(&gates, ONE, down()).await.said(""), "the push service asks to wait (429); nothing is sent to it for another 1 s");
        tokio::time::sleep(Duration::from_secs(1)).await;
        assert!(pass(&gates, ONE, Sent::Accepted { took: TOOK }).await.is_accepted());
    }

    #[tokio::test(start_paused = true)]
    async fn answers_about_one_handset_say_nothing_about_the_service() {
        let gates = Gates::default();
        for _ in 0..20 {
            pass(&gates, ONE, Sent::Gone { status: 410, took: TOOK }).await;
            pass(&gates, ONE, Sent::Unanswered { seen: "it answered 400".into(), of_service: false, took: TOOK }).await;
        }
        assert!(pass(&gates, ONE, Sent::Accepted { took: TOOK }).await.is_accepted());
    }

    #[tokio::test(start_paused = true)]
    async fn so_many_are_on_their_way_and_the_others_wait_in_line_up_to_a_limit() {
        let gates = Arc::new(Gates::default());
        let tasks: Vec<_> = (0..IN_LINE)
            .map(|_| {
                let gates = Arc::clone(&gates);
                tokio::spawn(async move {
                    let slow = async {
                        tokio::time::sleep(Duration::from_secs(1)).await;
                        Sent::Accepted { took: TOOK }
                    };
                    gates.pass(ONE, slow).await
                })
            })
            .collect();
        // Time stands still as long as anybody can go on.
        while gates.with(ONE, |gate| gate.in_line) < IN_LINE {
            tokio::task::yield_now().await;
        }
        let began = Instant::now();
        let refused = pass(&gates, ONE, down()).await;
        assert_eq!(refused.said(""), "too many messages wait for this push service");
        for task in tasks {
            assert!(task.await.unwrap().is_accepted());
        }
        assert_eq!(began.elapsed().as_secs() as usize, IN_LINE / AT_ONCE, "{AT_ONCE} at a time");
    }

    #[tokio::test(start_paused = true)]
    async fn services_that_were_asked_once_are_forgotten_when_there_are_too_many() {
        let gates = Gates::default();
        for number in 0..SERVICES * 2 {
            assert!(pass(&gates, &format!("https://{number}.example.org"), Sent::Accepted { took: TOOK }).await.is_accepted());
        }
        assert!(gates.gates.lock().unwrap().len() <= SERVICES);
    }
}
