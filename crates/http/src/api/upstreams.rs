//! Upstreams of the site with the state of their servers.

use super::ApiState;
use super::auth::Operator;
use axum::Json;
use axum::extract::State;
use bivector_api::directories::UpstreamView;
use bivector_site::{FactorKind, SourceRef};

/// All upstreams of the active site.
#[utoipa::path(get, operation_id = "upstreams_list", path = "/upstreams", tag = "upstreams", responses((status = 200, body = [UpstreamView])))]
pub(super) async fn list(State(state): State<ApiState>, _: Operator) -> Json<Vec<UpstreamView>> {
    let live = state.shared.live.load_full();
    let views = live.iter().flat_map(|live| {
        let asks = |index: usize| {
            let uses = move |chain: &&bivector_site::Chain| {
                chain.asks(SourceRef::Upstream(index)) || chain.second.contains(&FactorKind::Upstream(index))
            };
            live.site.chains.iter().filter(uses).map(|chain| chain.name.clone()).collect()
        };
        live.site.upstreams.iter().enumerate().map(move |(index, upstream)| UpstreamView {
            name: upstream.name.clone(),
            servers: live.upstreams.get(index).map(|source| source.health()).unwrap_or_default(),
            status_checks: upstream.status_checks,
            secret: upstream.secret.clone(),
            chains: asks(index),
        })
    });
    Json(views.collect())
}
