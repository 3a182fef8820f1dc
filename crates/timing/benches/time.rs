//! What the time budget and the simulation cost: budgets of a hundred chains, and simulated logins a second on one core.

#![allow(missing_docs, clippy::unwrap_used, clippy::panic, reason = "a benchmark")]

use bivector_model::device::CodeKind;
use bivector_site::{Known, Site};
use bivector_timing::budget::{self, How, Learned};
use bivector_timing::simulate::{Plan, simulate};
use criterion::{Criterion, Throughput, criterion_group, criterion_main};
use std::hint::black_box;
use std::sync::Arc;

/// As in the shipped binary.
#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

const SITE: &str = include_str!("../../../demo/site.toml");
/// Logins of one simulation: enough that beginning and end do not count.
const LOGINS: u64 = 20_000;

/// The demo's site with a hundred more chains, each with a realm of its own.
fn hundred_chains() -> Site {
    let chains: String = (0..100)
        .map(|n| {
            format!(
                "[[chains]]\nname = \"c{n}\"\ngateways = [\"lantern\"]\nrealms = [\"r{n}.northmoor.example\"]\nforms = [\"password code(6)\", \"password\"]\nfirst = [\"tidehall\"]\nsecond = [\"totp\", \"approval\"]\nwhen_unclear = \"code\"\n\n[[rules]]\nname = \"r{n}\"\nchain = \"c{n}\"\nwhen = {{ group = \"control-room\" }}\ngrant = \"survey\"\n\n"
            )
        })
        .collect();
    let (before, after) = SITE.split_once("[[chains]]").unwrap();
    let (site, findings) = Site::read(&format!("{before}{chains}[[chains]]{after}"), &Known::default());
    site.unwrap_or_else(|| panic!("{findings:#?}"))
}

fn plan(site: &Arc<Site>, chain: &str, gateway: &str, how: How) -> Plan {
    let chain = site.chains.iter().position(|of| of.name == chain).unwrap();
    let way = budget::ways(site, chain, site.gateway_named(gateway)).into_iter().find(|way| way.how == how).unwrap();
    Plan { logins: LOGINS, ..Plan::of(Arc::clone(site), way, &Learned::default()) }
}

fn benches(c: &mut Criterion) {
    let hundred = hundred_chains();
    assert!(hundred.chains.len() > 100);
    c.bench_function("the budgets of 100 chains", |b| b.iter(|| budget::all(black_box(&hundred), &Learned::default()).len()));
    let site = Arc::new(Site::read(SITE, &Known::default()).0.unwrap());
    let mut group = c.benchmark_group("simulated logins");
    group.throughput(Throughput::Elements(LOGINS)).sample_size(10);
    let approvals = plan(&site, "watch", "slipway", How::Approval);
    for (name, plan) in [
        ("password and code", plan(&site, "staff", "breakwater", How::Typed(CodeKind::Totp))),
        // Where ten times as many come in a second, ten times as many wait: what the machine's caches make of that.
        ("approvals with resends, 200 a second", Plan { per_second: 200.0, ..approvals.clone() }),
        ("approvals with resends", approvals),
    ] {
        group.bench_function(name, |b| b.iter(|| simulate(black_box(&plan), |_| true).unwrap().unwrap().accepted));
    }
    group.finish();
}

criterion_group!(all, benches);
criterion_main!(all);
