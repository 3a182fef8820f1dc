//! Time: budgets of chains, what to change, and simulations.

use super::ApiState;
use super::auth::Operator;
use super::problem::{Body, Problem};
use axum::Json;
use axum::body::Body as HttpBody;
use axum::extract::{Path, State};
use axum::http::{StatusCode, header};
use axum::response::{IntoResponse, Response};
use bivector_api::operators::Role;
use bivector_api::problem::Problem as Details;
use bivector_api::timing::{DraftRequest, DraftView, SettingView, SimulateRequest, SimulationLine, TimingRequest, TimingView};
use bivector_engine::live::LiveSite;
use bivector_manage::edit::{Wait, set_waits};
use bivector_site::{Known, Site};
use bivector_store::error::ServiceError;
use bivector_timing::budget::{self, Amount, ChainBudget, Learned, Setting, SettingError, Way};
use bivector_timing::simulate::{Plan, PlanError, SweepPlan, Times, Trouble, simulate, sweep};
use std::collections::BTreeMap;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;
use tokio::sync::mpsc;

/// Logins of a rush at most.
const MOST_RUSHED: u32 = 1_000_000;
/// What happens to a directory in a simulation happens this long after the first login.
const TROUBLE_AFTER: Duration = Duration::from_secs(10);

fn unprocessable(what: impl Into<String>, remedy: impl Into<String>) -> Problem {
    Problem::new(StatusCode::UNPROCESSABLE_ENTITY, "timing", what, remedy)
}

impl From<PlanError> for Problem {
    fn from(error: PlanError) -> Self {
        unprocessable(error.what, error.remedy)
    }
}

impl From<SettingError> for Problem {
    fn from(error: SettingError) -> Self {
        unprocessable(error.to_string(), error.remedy())
    }
}

/// The site in question with other values, and what is learned of it.
struct Question {
    site: Site,
    chain: usize,
    via: Option<usize>,
    learned: Learned,
}

impl Question {
    async fn of(
        state: &ApiState,
        chain: &str,
        via: Option<&str>,
        text: Option<&str>,
        set: &BTreeMap<String, String>,
    ) -> Result<Self, Problem> {
        let mut site = match text {
            Some(text) => {
                let (site, findings) = Site::read(text, &Known::default());
                site.ok_or(ServiceError::Site(findings))?
            }
            None => in_force(state)?.site.as_ref().clone(),
        };
        let index = site.chains.iter().position(|of| of.name == chain).ok_or_else(|| {
            let known = site.chains.iter().map(|chain| chain.name.as_str()).collect::<Vec<_>>().join(", ");
            Problem::not_found(format!("unknown chain `{chain}`"), format!("known: {known}"))
        })?;
        let via = match via {
            None => None,
            Some(name) => {
                let gateways = site.gateways.iter().filter(|gateway| gateway.chains.contains(&index));
                let known = gateways.map(|gateway| gateway.name.clone()).collect::<Vec<_>>();
                let found = site.gateway_named(name).filter(|_| known.iter().any(|known| known == name));
                Some(found.ok_or_else(|| {
                    Problem::not_found(
                        format!("`{chain}` does not accept logins from a gateway `{name}`"),
                        format!("it does from: {}", known.join(", ")),
                    )
                })?)
            }
        };
        let mut learned = (*state.shared.learned.get(&state.shared.records).await?).clone();
        for (name, value) in set {
            let setting = Setting::named(&site, name, index, via)?;
            let amount = Amount::read(value).ok_or_else(|| SettingError::Value {
                name: name.clone(),
                value: value.clone(),
                allowed: allowed(setting),
            })?;
            // What is tried out counts, whatever was seen on the wire.
            if let Setting::GatewayWait(gateway) | Setting::GatewayTries(gateway) = setting {
                let seen = learned.patience(&site.gateways[gateway]).map(|(patience, _)| patience);
                site.gateways[gateway].patience = seen.or(site.gateways[gateway].patience);
                learned.gateways.remove(&site.gateways[gateway].name);
            }
            setting.set(&mut site, amount)?;
        }
        Ok(Question { site, chain: index, via, learned })
    }

    /// The values as they count: of gateways those that were seen, where they are known.
    fn settings(&self) -> Vec<SettingView> {
        let value = |setting: Setting| match setting {
            Setting::GatewayWait(index) => {
                self.learned.patience(&self.site.gateways[index]).map(|(patience, _)| Amount::Time(patience.wait))
            }
            Setting::GatewayTries(index) => {
                self.learned.patience(&self.site.gateways[index]).map(|(patience, _)| Amount::Count(patience.tries))
            }
            other => other.get(&self.site),
        };
        let view = |setting: Setting| {
            let (amount, (least, most)) = (value(setting), setting.range());
            SettingView {
                name: setting.name(&self.site),
                said: setting.said(&self.site),
                value: amount.map(Amount::written).unwrap_or_default(),
                number: amount.map(Amount::number),
                least: least.number(),
                most: most.number(),
                in_seconds: matches!(least, Amount::Time(_)),
                on_device: setting.on_device(),
            }
        };
        budget::of_way(&self.site, self.chain, self.via).into_iter().map(view).collect()
    }
}

fn allowed(setting: Setting) -> String {
    let (least, most) = setting.range();
    format!("{} to {}", least.written(), most.written())
}

fn in_force(state: &ApiState) -> Result<Arc<LiveSite>, Problem> {
    state.shared.live.load_full().ok_or_else(|| Problem::not_found("no site is active yet", "apply one with `bivector site apply FILE`"))
}

/// The budgets of all chains of the active site.
#[utoipa::path(get, operation_id = "timing_budgets", path = "/timing", tag = "timing", responses((status = 200, body = [ChainBudget])))]
pub(super) async fn budgets(State(state): State<ApiState>, _: Operator) -> Result<Json<Vec<ChainBudget>>, Problem> {
    let Some(live) = state.shared.live.load_full() else { return Ok(Json(Vec::new())) };
    let learned = state.shared.learned.get(&state.shared.records).await?;
    Ok(Json(budget::all(&live.site, &learned)))
}

/// The budget of a chain, with other values where some are given. Nothing is changed.
#[utoipa::path(post, operation_id = "timing_budget", path = "/timing/{chain}", tag = "timing", params(("chain" = String, Path)), request_body = TimingRequest,
    responses((status = 200, body = TimingView), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(super) async fn show(
    State(state): State<ApiState>,
    _: Operator,
    Path(chain): Path<String>,
    Body(request): Body<TimingRequest>,
) -> Result<Json<TimingView>, Problem> {
    let margin = request.margin.unwrap_or(budget::MARGIN);
    if !(0.0..=5.0).contains(&margin) {
        return Err(unprocessable(format!("{margin} is not a valid margin"), "write a share from 0 to 5: 0.2 for a fifth"));
    }
    let question = Question::of(&state, &chain, request.via.as_deref(), request.text.as_deref(), &request.set).await?;
    let Question { site, chain, via, learned } = &question;
    let found =
        budget::budget(site, *chain, *via, learned).ok_or_else(|| Problem::not_found("the chain is gone", "see `bivector chain list`"))?;
    let rush = match request.rush {
        Some(logins @ 1..=MOST_RUSHED) => budget::rush(site, *chain, *via, learned, logins, state.shared.hashing.cost().await?),
        Some(logins) => return Err(unprocessable(format!("a rush cannot have {logins} logins"), format!("write 1 to {MOST_RUSHED}"))),
        None => Vec::new(),
    };
    let sends = |gateway: &&bivector_site::Gateway| gateway.chains.contains(chain);
    Ok(Json(TimingView {
        gateways: site.gateways.iter().filter(sends).map(|gateway| gateway.name.clone()).collect(),
        budget: found,
        settings: question.settings(),
        suggestion: budget::suggest(site, *chain, *via, learned, margin),
        learned: learned.clone(),
        rush,
    }))
}

/// The active site file with other waits, as a draft, and what must be entered on devices. Nothing is applied.
#[utoipa::path(post, operation_id = "timing_draft", path = "/timing/{chain}/draft", tag = "timing", params(("chain" = String, Path)), request_body = DraftRequest,
    responses((status = 200, body = DraftView), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(super) async fn draft(
    State(state): State<ApiState>,
    _: Operator,
    Path(chain): Path<String>,
    Body(request): Body<DraftRequest>,
) -> Result<Json<DraftView>, Problem> {
    // Checks names and values.
    let question = Question::of(&state, &chain, None, None, &request.set).await?;
    let live = in_force(&state)?;
    let revision = state.shared.records.revision(live.revision).await?;
    let text = revision.and_then(|revision| revision.text).unwrap_or_default();
    let (mut waits, mut on_devices) = (Vec::new(), Vec::new());
    for (name, value) in &request.set {
        let setting = Setting::named(&live.site, name, question.chain, None)?;
        let Some(amount) = Amount::read(value) else { continue };
        let (list, owner, key) = setting.place(&live.site);
        if setting.on_device() {
            let before = setting.get(&live.site).map(|before| format!(" (the site file says {before})")).unwrap_or_default();
            on_devices.push(format!("{owner}: set {} to {amount}{before}", setting.said(&live.site)));
        }
        waits.push(Wait { list, owner, key, amount });
    }
    Ok(Json(DraftView { revision: live.revision, text: set_waits(&text, &waits)?, on_devices }))
}

/// Logins that whoever may look may have simulated: a fine curve, some tenths of a second of one core.
const LOOKED_AT: u64 = 20_000;

/// Ends a simulation when nobody listens any more.
struct Listening(Arc<AtomicBool>);

impl Drop for Listening {
    fn drop(&mut self) {
        self.0.store(true, Ordering::Relaxed);
    }
}

/// Simulates logins in virtual time: lines of JSON, first how far it is, at last what came of it. It ends when the caller hangs up.
/// More than twenty thousand logins, over all points of a curve, need the role `operate`.
#[utoipa::path(post, operation_id = "timing_simulate", path = "/timing/{chain}/simulation", tag = "timing", params(("chain" = String, Path)), request_body = SimulateRequest,
    responses((status = 200, body = SimulationLine, content_type = "application/x-ndjson"), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(super) async fn simulation(
    State(state): State<ApiState>,
    operator: Operator,
    Path(chain): Path<String>,
    Body(request): Body<SimulateRequest>,
) -> Result<Response, Problem> {
    let question = Question::of(&state, &chain, request.via.as_deref(), request.text.as_deref(), &request.set).await?;
    let (plan, along) = plan(question, &request)?;
    let points = along.as_ref().map_or(1, |along| u64::from(along.points));
    if plan.logins.saturating_mul(points) > LOOKED_AT {
        let fewer = format!("simulate {LOOKED_AT} logins at most, over all points of a curve; more takes the role `operate`");
        operator.may(Role::Operate).map_err(|Problem(problem)| Problem(Details { remedy: fewer, ..problem }))?;
    }
    if let Some(along) = &along {
        along.within(plan.logins)?;
    }
    let (lines, receiver) = mpsc::channel::<SimulationLine>(64);
    let ended = Arc::new(AtomicBool::new(false));
    let listening = Listening(Arc::clone(&ended));
    let turns = Arc::clone(&state.simulations);
    tokio::spawn(async move {
        // One at a time: the processors belong to logins.
        let Ok(_turn) = turns.acquire().await else { return };
        let played = tokio::task::spawn_blocking(move || play(&plan, along.as_ref(), &lines, &ended)).await;
        if let Err(error) = played {
            tracing::error!(%error, "a simulation broke");
        }
    });
    let stream = futures_util::stream::unfold((receiver, listening), |(mut receiver, listening)| async move {
        let line = receiver.recv().await?;
        let mut text = serde_json::to_vec(&line).unwrap_or_default();
        text.push(b'\n');
        Some((Ok::<_, std::io::Error>(text), (receiver, listening)))
    });
    Ok(([(header::CONTENT_TYPE, "application/x-ndjson")], HttpBody::from_stream(stream)).into_response())
}

fn play(plan: &Plan, along: Option<&SweepPlan>, lines: &mpsc::Sender<SimulationLine>, ended: &AtomicBool) {
    let go_on = |share: f64| {
        // A listener that is slow misses some of the way, never the end.
        let _ = lines.try_send(SimulationLine::Progress((share * 1000.0).round() / 1000.0));
        !ended.load(Ordering::Relaxed)
    };
    let last = match along {
        Some(along) => sweep(plan, along, go_on).map(|curve| curve.map(|curve| SimulationLine::Curve(Box::new(curve)))),
        None => simulate(plan, |count| go_on(count as f64 / plan.logins as f64))
            .map(|done| done.map(|done| SimulationLine::Simulated(Box::new(done)))),
    };
    let last = last.unwrap_or_else(|error| Some(SimulationLine::Problem(Box::new(Problem::from(error).0))));
    if let Some(last) = last {
        // Nobody listening is no error.
        let _ = lines.blocking_send(last);
    }
}

/// The way that is asked for.
fn chosen(question: &Question, wanted: Option<&str>) -> Result<Way, Problem> {
    let all = budget::ways(&question.site, question.chain, question.via);
    let slug = |way: &Way| way.how.slug(&question.site);
    let found = match wanted {
        Some(wanted) => all.iter().find(|way| slug(way) == wanted),
        None => all.first(),
    };
    found.cloned().ok_or_else(|| {
        let mut known: Vec<String> = all.iter().map(slug).collect();
        known.dedup();
        match wanted {
            Some(wanted) => unprocessable(format!("unknown path `{wanted}` through the chain"), format!("known: {}", known.join(", "))),
            None => unprocessable("no login can pass through this chain", "name a gateway under `gateways` of the chain"),
        }
    })
}

fn plan(question: Question, request: &SimulateRequest) -> Result<(Plan, Option<SweepPlan>), Problem> {
    let mut question = question;
    if let Some((name, _)) = request.sweep.as_deref().and_then(|text| text.split_once('=')) {
        let of = Setting::named(&question.site, name.trim(), question.chain, question.via).ok().and_then(Setting::gateway);
        match (question.via, of) {
            (Some(via), Some(of)) if via != of => {
                let named = |gateway: usize| question.site.gateways.get(gateway).map_or("?", |gateway| gateway.name.as_str());
                let said = format!("`{}` changes nothing for logins through `{}`", name.trim(), named(via));
                return Err(unprocessable(said, format!("sweep a setting of `{}`, or ask for logins via `{}`", named(via), named(of))));
            }
            // The value of one gateway is told by logins through that one.
            (None, of) => question.via = of,
            _ => {}
        }
    }
    let way = chosen(&question, request.way.as_deref())?;
    let Question { site, chain, learned, .. } = question;
    let via = Some(way.gateway);
    let along = match &request.sweep {
        Some(text) => Some(SweepPlan::read(text, &site, chain, via, request.points.unwrap_or(15))?),
        None => None,
    };
    let mut plan = Plan::of(Arc::new(site), way, &learned);
    plan.logins = request.logins.unwrap_or(2_000);
    plan.per_second = request.per_second.unwrap_or(plan.per_second);
    plan.seed = request.seed.unwrap_or(1);
    plan.link.loss = request.loss.unwrap_or(0.0);
    plan.link.twice = request.twice.unwrap_or(0.0);
    plan.phones.off = request.off.unwrap_or(0.0);
    plan.phones.asleep = request.asleep.unwrap_or(0.0);
    plan.phones.refused = request.push_refused.unwrap_or(0.0);
    if request.usual_s.is_some() || request.most_s.is_some() {
        let us = |seconds: f64| (seconds * 1_000_000.0) as u64;
        let usual = request.usual_s.or(request.most_s.map(|most| most / 2.5)).unwrap_or(10.0);
        let most = request.most_s.unwrap_or(usual * 2.5);
        if !(usual > 0.0 && most >= usual && most < 86_400.0) {
            return Err(unprocessable(
                format!("the usual time ({usual} s) exceeds the 95th percentile ({most} s)"),
                "write two times above 0, the usual one first",
            ));
        }
        plan.people = Times::LogNormal { usual_us: us(usual), most_us: us(most) };
    }
    plan.trouble = match request.trouble.as_deref() {
        None => Trouble::None,
        Some("dies") => Trouble::Dies { after: TROUBLE_AFTER },
        Some("hangs") => Trouble::Hangs { after: TROUBLE_AFTER },
        Some("slows") => Trouble::Slows { after: TROUBLE_AFTER, times: 20.0 },
        Some(other) => return Err(unprocessable(format!("`{other}` is not a failure mode"), "write `dies`, `hangs` or `slows`")),
    };
    plan.check()?;
    Ok((plan, along))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_sweep_of_a_gateways_setting_plays_logins_through_that_gateway() {
        let site = Site::read(include_str!("../../../../demo/site.toml"), &Known::default()).0.unwrap();
        let chain = site.chains.iter().position(|chain| chain.name == "watch").unwrap();
        let (lantern, slipway) = (site.gateway_named("lantern"), site.gateway_named("slipway"));
        let planned = |sweep: &str, via: Option<usize>| {
            let question = Question { site: site.clone(), chain, via, learned: Learned::default() };
            let request = SimulateRequest { sweep: Some(sweep.to_owned()), ..SimulateRequest::default() };
            plan(question, &request).map(|(plan, _)| plan.way.gateway).ok()
        };
        assert_eq!(planned("lantern.wait=1s..40s", None), lantern);
        assert_eq!(planned("slipway.tries=1..9", None), slipway);
        assert_eq!(planned("lantern.wait=1s..40s", lantern), lantern);
        assert_eq!(planned("lantern.wait=1s..40s", slipway), None, "it would change nothing there");
        assert!(planned("tidehall.answer=1s..9s", None).is_some());
    }
}
