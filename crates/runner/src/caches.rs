//! A job's caches: restored before its steps, saved after them. An error with a cache does not end the job: it is reported
//! in the log and in the job's result.

use crate::archive::chosen;
use crate::artifacts::{blocking, files};
use crate::broken::Broken;
use crate::cache_state::Known;
use crate::client::CallError;
use crate::job::Job;
use crate::layer_error::LayerError;
use crate::layers::Layer;
use crate::save::SaveError;
use crate::workspace::Workspace;
use ordotaxis_wire::run::PhaseKind;
use ordotaxis_wire::runner::{CacheUse, FindCache, LeaseCache, SaveCache};
use ordotaxis_wire::words;
use std::sync::Arc;
use std::time::Instant;

/// How often a store that refuses is asked for a cache; a job can do without.
const TRIES: u32 = 3;

impl Job<'_> {
    /// Looks for the entry of a cache and brings it here. Only an attempt that was given up is an error.
    pub(crate) async fn restore(&mut self, at: usize, whole: bool) -> Result<Option<Arc<Layer>>, Broken> {
        let cache = self.lease.caches[at].clone();
        let mut known = Known {
            told: CacheUse { key: cache.key.clone(), paths: cache.paths.clone(), ..CacheUse::default() },
            saved: None,
            may_save: true,
        };
        if self.lease.fresh {
            self.notice(&mut known, "asked for with nothing kept from before: not restored").await;
            self.caches.push(known);
            return Ok(None);
        }
        self.begin(&cache.key, PhaseKind::Cache).await;
        let begun = Instant::now();
        let restored = self.find_and_bring(&cache, &mut known, whole).await;
        known.told.restore_ms = i64::try_from(begun.elapsed().as_millis()).unwrap_or(i64::MAX);
        let layer = match restored {
            Ok(layer) => layer,
            Err(LayerError::Call(CallError::GivenUp | CallError::Leaving)) => return Err(Broken::GivenUp),
            Err(error) => {
                self.notice(&mut known, &format!("{}{error}", CacheUse::NOT_USED)).await;
                (known.told.restored, known.told.from) = (None, None);
                None
            }
        };
        if let (Some(key), Some(from)) = (&known.told.restored, &known.told.from) {
            let told = &known.told;
            let (size, fetched) = (words::bytes(told.bytes), words::bytes(told.fetched_bytes));
            let exact = if *key == cache.key { String::new() } else { format!(", nearest is {key}") };
            let took = words::duration(told.restore_ms);
            let line =
                format!("cache {}: restored from {from}{exact}: {}, {size} in {took}, {fetched} fetched", cache.key, files(told.files));
            self.shipper.log.say(&line).await;
        } else if known.told.notices.is_empty() {
            self.notice(&mut known, "not there yet").await;
        }
        self.end(false, None);
        self.caches.push(known);
        Ok(layer)
    }

    async fn find_and_bring(&self, cache: &LeaseCache, known: &mut Known, whole: bool) -> Result<Option<Arc<Layer>>, LayerError> {
        let (client, leave) = (&self.shared.client, &self.shared.abort);
        let ask = FindCache { key: cache.key.clone(), otherwise: cache.otherwise.clone() };
        let found = crate::client::insist_for(TRIES, leave, || client.find_cache(self.lease.attempt, &ask)).await?;
        known.may_save = found.may_save;
        let Some(entry) = found.entry else { return Ok(None) };
        let (layer, brought) = self.shared.layers.bring(&entry.tree, whole, &self.store()).await?;
        known.told.files = layer.tree.files();
        known.told.bytes = layer.tree.bytes();
        known.told.fetched_bytes = brought.fetched;
        known.told.restored = Some(entry.key);
        known.told.from = Some(entry.run);
        Ok(Some(layer))
    }

    /// Saves every cache whose key is new and whose `save` says so.
    pub(crate) async fn save_caches(&mut self, workspace: &Workspace, passed: bool) {
        let caches = self.lease.caches.clone();
        for (at, cache) in caches.iter().enumerate() {
            let Some(known) = self.caches.get(at) else { return };
            let wanted = cache.save == "always" || cache.save == "passed" && passed;
            if !wanted || known.told.restored.as_deref() == Some(&cache.key) {
                continue;
            }
            let mut known = self.caches.remove(at);
            if known.may_save {
                self.begin(&cache.key, PhaseKind::Save).await;
                let begun = Instant::now();
                let saved = self.save_one(workspace, cache, &mut known).await;
                known.told.save_ms = i64::try_from(begun.elapsed().as_millis()).unwrap_or(i64::MAX);
                self.end(false, None);
                match saved {
                    Ok(Some(line)) => {
                        self.shipper.log.say(&format!("cache {}: {line} in {}", cache.key, words::duration(known.told.save_ms))).await
                    }
                    Ok(None) => {}
                    Err(error) => self.notice(&mut known, &format!("{}{error}", CacheUse::NOT_SAVED)).await,
                }
            } else {
                self.notice(&mut known, "a proposal from outside only reads its target's caches, and saves none").await;
            }
            self.caches.insert(at, known);
        }
    }

    async fn save_one(&mut self, workspace: &Workspace, cache: &LeaseCache, known: &mut Known) -> Result<Option<String>, SaveError> {
        let (folders, globs) = (workspace.folders.clone(), cache.paths.clone());
        let paths = blocking(move || Ok(chosen(&folders.job()?, &globs, true)?)).await?;
        if paths.is_empty() {
            self.notice(known, &format!("{}nothing lies at {}", CacheUse::NOT_SAVED, cache.paths.join(", "))).await;
            return Ok(None);
        }
        let saved = self.save(workspace, paths, false).await?;
        let ask = SaveCache { key: cache.key.clone(), tree: saved.id.to_string(), bytes: saved.sent };
        let (client, attempt) = (&self.shared.client, self.lease.attempt);
        let answer = crate::client::insist_for(TRIES, &self.shared.abort, || client.keep_entry(attempt, &ask)).await?;
        known.told.sent_bytes = saved.sent;
        if !answer.saved {
            self.notice(known, "another job has saved it meanwhile: that one stays").await;
            return Ok(None);
        }
        known.told.saved = true;
        known.saved = Some((saved.id, saved.tree));
        (known.told.saved_files, known.told.saved_bytes) = (saved.files, saved.bytes);
        let (size, sent) = (words::bytes(saved.bytes), words::bytes(saved.sent));
        Ok(Some(format!("saved {}, {size}, {sent} of it new to the store", files(saved.files))))
    }

    async fn notice(&mut self, known: &mut Known, notice: &str) {
        self.shipper.log.say(&format!("cache {}: {notice}", known.told.key)).await;
        known.told.notices.push(notice.to_owned());
    }
}
