//! Time budgets and simulations.

use crate::problem::Problem;
use bivector_timing::budget::{ChainBudget, Learned, Rush, Suggestion};
use bivector_timing::simulate::{Curve, Simulated};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use utoipa::ToSchema;

/// What a budget is asked for.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(default)]
pub struct TimingRequest {
    /// Only this gateway.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub via: Option<String>,
    /// Other values for settings, by name, as they are written: `{"breakwater.wait": "20s"}`.
    pub set: BTreeMap<String, String>,
    /// The margin that everything should nest with, as a share; a fifth if left out.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub margin: Option<f64>,
    /// A site file instead of the active one.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub text: Option<String>,
    /// Also work out a rush: this many logins that begin at the same moment.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub rush: Option<u32>,
}

/// One wait that could be changed.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct SettingView {
    /// Its name.
    pub name: String,
    /// What it is, in words.
    pub said: String,
    /// Its value, as it is written; empty where nothing is known.
    pub value: String,
    /// Its value in seconds, or as a number of tries.
    pub number: Option<f64>,
    /// The least that is allowed.
    pub least: f64,
    /// The most that is allowed.
    pub most: f64,
    /// Whether it is a time; else it is a number.
    pub in_seconds: bool,
    /// Whether it is entered on a device.
    pub on_device: bool,
}

/// The time of a chain: what is so, what does not nest, what to change.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct TimingView {
    /// The gateways that send it logins.
    pub gateways: Vec<String>,
    /// The budget.
    #[serde(flatten)]
    pub budget: ChainBudget,
    /// Every wait that matters to it, from the outside in.
    pub settings: Vec<SettingView>,
    /// The smallest change after which every timeout is long enough.
    pub suggestion: Suggestion,
    /// What was learned from real logins.
    pub learned: Learned,
    /// The rush that was asked for, by gateway.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub rush: Vec<Rush>,
}

/// A simulation, or one for each value of a sweep.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(default)]
pub struct SimulateRequest {
    /// The gateway; the chain's first if left out.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub via: Option<String>,
    /// The way through the chain, as a budget names it; the first one if left out.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub way: Option<String>,
    /// How many logins; 2000 if left out.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub logins: Option<u64>,
    /// How many begin in a second; 20 if left out.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub per_second: Option<f64>,
    /// The seed; 1 if left out.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub seed: Option<u64>,
    /// Other values for settings.
    pub set: BTreeMap<String, String>,
    /// The share of packets that are lost.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub loss: Option<f64>,
    /// The share of packets that arrive twice.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub twice: Option<f64>,
    /// The share of handsets that are off.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub off: Option<f64>,
    /// The share of handsets that are asleep, and show a push message late.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub asleep: Option<f64>,
    /// The share of handsets that may not show notifications.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub push_refused: Option<f64>,
    /// Half of the people take longer than so many seconds; measured or assumed if left out.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub usual_s: Option<f64>,
    /// One of twenty takes longer than so many seconds.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub most_s: Option<f64>,
    /// Failure of the first directory server, ten seconds in: `dies`, `hangs`, or `slows`.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub trouble: Option<String>,
    /// One setting and two values, `NAME=FROM..TO`: the curve between them.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub sweep: Option<String>,
    /// How many points the curve has; 15 if left out.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub points: Option<u32>,
    /// A site file instead of the active one.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub text: Option<String>,
}

/// A line of a simulation's answer: how far it is, and at last what came of it.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum SimulationLine {
    /// The share that is done.
    Progress(f64),
    /// Done: one simulation.
    Simulated(Box<Simulated>),
    /// Done: a curve.
    Curve(Box<Curve>),
    /// It could not be played.
    Problem(Box<Problem>),
}

/// Values for a draft.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(default)]
pub struct DraftRequest {
    /// Settings by name, each with the value to set.
    pub set: BTreeMap<String, String>,
}

/// The site file with other waits.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct DraftView {
    /// The revision that it was made from.
    pub revision: u64,
    /// The whole text; nothing is applied.
    pub text: String,
    /// What must be entered on devices, in sentences.
    pub on_devices: Vec<String>,
}
