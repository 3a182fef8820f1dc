//! Who is in a group of a directory: read page by page, with groups told as they are told at a login.

use super::directory::DirectorySource;
use super::pool::ServerPool;
use super::standing::Failure;
use bivector_core::login::{Answer, Found, PersonAnswer, Unavailable};
use bivector_model::Cause;
use bivector_site::GroupSource;
use ldap3::adapters::{Adapter, EntriesOnly, PagedResults};
use ldap3::{SearchEntry, ldap_escape};
use std::sync::Arc;
use std::time::{Duration, Instant};

/// Entries in one page.
const PAGE: i32 = 500;
/// People that are read at most: a larger directory is synced by a group's whole DN, which the server itself looks for.
const MOST: usize = 200_000;

impl DirectorySource {
    /// Everybody whom the directory would find.
    pub async fn everybody(&self) -> Answer<Result<Vec<Found>, Unavailable>> {
        self.members("").await
    }

    /// Everybody in a group, given by name or whole DN; without one, everybody.
    pub async fn members(&self, group: &str) -> Answer<Result<Vec<Found>, Unavailable>> {
        let mut round = self.round();
        while let Some(server) = round.next() {
            let began = Instant::now();
            match self.members_at(server, group).await {
                // Reading a whole directory takes long: that says nothing of how quick it is for a login.
                Ok(members) => return round.hedged_after(Duration::MAX).answered(server, Ok(members), began),
                Err(failure) => Self::failed(&mut round, server, failure, began),
            }
        }
        round.given_up(Err)
    }

    async fn members_at(&self, server: &ServerPool, group: &str) -> Result<Vec<Found>, Failure> {
        let settings = self.settings();
        let mut ldap = server.signed_in(self.account(), settings.answer_patience).await?;
        let mut filter = self.by_name("*");
        if let (true, GroupSource::Attribute { attribute, nested: false }) = (group.contains('='), &settings.groups) {
            filter = format!("(&{filter}({attribute}={}))", ldap_escape(group));
        }
        let adapters: Vec<Box<dyn Adapter<'_, String, Vec<String>>>> =
            vec![Box::new(EntriesOnly::new()), Box::new(PagedResults::new(PAGE))];
        let wanted: Vec<String> = self.wanted().into_iter().map(str::to_owned).collect();
        let mut stream = ldap
            .streaming_search_with(adapters, &settings.base, self.scope(), &filter, wanted)
            .await
            .map_err(|error| self.read_error(&error))?;
        let mut entries = Vec::new();
        while let Some(entry) = stream.next().await.map_err(|error| self.read_error(&error))? {
            entries.push(SearchEntry::construct(entry));
            if entries.len() > MOST {
                let seen = format!("more than {MOST} entries under `{}`; name the group by its whole DN", settings.base);
                return Err(Unavailable { cause: Cause::SourceAnswerUnusable, seen }.into());
            }
        }
        let ended = stream.finish().await;
        if ended.rc != 0 {
            let seen = format!("the search under `{}` gave result {}", settings.base, ended.rc);
            return Err(Unavailable { cause: Cause::SourceAnswerUnusable, seen }.into());
        }
        let mut members = Vec::new();
        for entry in entries {
            if let PersonAnswer::Found(found) = self.read_person(server, &mut ldap, "", entry).await?
                && (group.is_empty() || found.groups.contains(&group.to_lowercase()))
            {
                members.push(Arc::unwrap_or_clone(found));
            }
        }
        Ok(members)
    }
}
