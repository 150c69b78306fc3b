//! What is damaged, and what nobody needs any more. Both look first; what a sweep takes away is a plan that can be shown.

use super::error::plainly;
use super::index::PackAt;
use super::intake::path_of;
use super::reading::split;
use super::{BlobError, Blobs};
use futures_util::StreamExt;
use object_store::path::Path;
use object_store::{ObjectStore, ObjectStoreExt};
use ordotaxis_content::{ChunkId, MAGIC, open_block};
use std::collections::HashSet;

/// What was made, or spoken of, so lately may be on its way to a name: no sweep touches it. Longer than any one upload.
pub const YOUNG_MS: i64 = 60 * 60 * 1000;
/// A pack is rewritten without its waste when less than this share of it is needed, in percent.
const WORTH_KEEPING: u64 = 50;
/// Smaller packs are joined when there are enough of them: a file each, for every few logs, would be too many.
const SMALL: u64 = 1024 * 1024;
const ENOUGH: usize = 8;
/// Up to about this much.
const JOINED: usize = 16 * 1024 * 1024;

/// A pack that does not hold what it should.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Damage {
    pub pack: String,
    pub why: String,
    pub chunks: usize,
}

/// The result of reading the whole store.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Verified {
    pub packs: usize,
    pub chunks: usize,
    pub bytes: u64,
    pub damaged: Vec<Damage>,
}

/// The result of checking one pack.
#[derive(Default)]
struct Looked {
    good: usize,
    bad: usize,
    why: Option<String>,
    /// A pack of what is good, and its headers.
    kept: Vec<u8>,
    headers: Vec<u8>,
}

/// What a sweep would take away.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct SweepPlan {
    /// Packs of which nothing is needed.
    pub dead: Vec<i64>,
    /// Packs of which little is needed: rewritten with that alone.
    pub thin: Vec<i64>,
    /// Packs that are small: joined.
    pub small: Vec<i64>,
    /// Places in storage that nothing knows: what was on its way when the service or a runner went down.
    pub stray: Vec<String>,
    /// What both together free.
    pub bytes: u64,
    live: HashSet<ChunkId>,
}

impl SweepPlan {
    /// Whether nothing is to be deleted or rewritten.
    pub fn is_empty(&self) -> bool {
        self.dead.is_empty() && self.thin.is_empty() && self.small.is_empty() && self.stray.is_empty()
    }
}

impl Blobs {
    /// Reads every pack and holds every chunk against its name. Of a damaged pack what is good is kept; the rest counts as
    /// missing, and those who have them send them again.
    pub async fn verify(&self, now: i64) -> Result<Verified, BlobError> {
        let packs: Vec<i64> = self.index().packs.keys().copied().collect();
        let mut verified = Verified::default();
        for id in packs {
            let Some((name, bytes)) = self.index().packs.get(&id).map(|pack| (pack.name.clone(), pack.bytes)) else { continue };
            let looked = self.look_at(id, &name, bytes).await?;
            verified.packs += 1;
            verified.chunks += looked.good;
            verified.bytes += bytes;
            if let Some(why) = looked.why {
                verified.damaged.push(Damage { pack: name, why, chunks: looked.bad });
                let _alone = self.0.sweeping.write().await;
                if looked.good > 0 {
                    let sealed = self.index().packs.get(&id).is_some_and(|pack| pack.sealed);
                    self.keep_as(looked.kept, looked.headers, sealed, now).await?;
                }
                self.drop_packs(&[id], now).await?;
                self.rebuild().await?;
            }
        }
        Ok(verified)
    }

    async fn look_at(&self, id: i64, name: &str, bytes: u64) -> Result<Looked, BlobError> {
        let mut looked = Looked { kept: MAGIC.to_vec(), ..Looked::default() };
        let whole = match self.0.packs.get(&path_of(name)).await {
            Ok(answer) => answer.bytes().await?,
            Err(object_store::Error::NotFound { .. }) => Default::default(),
            // Storage that cannot be reached says nothing about what is in it.
            Err(error) => return Err(error.into()),
        };
        let (blocks, sealed) = match self.index().packs.get(&id) {
            Some(pack) => (pack.blocks.clone(), pack.sealed),
            None => return Ok(looked),
        };
        if whole.len() as u64 != bytes || !whole.starts_with(MAGIC) {
            looked.why = Some(if whole.is_empty() { "it is gone or empty" } else { "it is cut off, or not a pack" }.to_owned());
        }
        for block in blocks {
            let place = block.range();
            let (from, to) = (usize::try_from(place.start).unwrap_or(usize::MAX), usize::try_from(place.end).unwrap_or(usize::MAX));
            let stored = whole.get(from..to);
            let opened = stored.ok_or(BlobError::Sealed).and_then(|bytes| {
                let block = split(bytes)?.pop().ok_or(BlobError::Sealed)?;
                let block = if sealed { self.0.key.as_ref().ok_or(BlobError::Sealed)?.open(&block)? } else { block };
                open_block(&block.header, &block.body)?;
                Ok(block.header.chunks.len())
            });
            match (opened, stored) {
                (Ok(chunks), Some(stored)) => {
                    looked.good += chunks;
                    looked.kept.extend_from_slice(stored);
                    looked.headers.extend_from_slice(&stored[..block.header as usize]);
                }
                (Ok(_), None) => {}
                (Err(error), _) => {
                    looked.bad += block.chunks();
                    looked.why = looked.why.or(Some(plainly(&error)));
                }
            }
        }
        Ok(looked)
    }

    /// All chunks that a tree is made of, its own list's too. A tree that cannot be read gives what can.
    async fn gather(&self, tree: &ChunkId, live: &mut HashSet<ChunkId>) -> Result<(), BlobError> {
        live.insert(*tree);
        let root = match self.root(tree).await {
            Ok(root) => root,
            Err(error) if error.is_passing() => return Err(error),
            Err(_) => return Ok(()),
        };
        live.extend(root.list.iter().map(|(id, _)| *id));
        match self.tree(tree).await {
            Ok(tree) => live.extend(tree.chunks()),
            Err(error) if error.is_passing() => return Err(error),
            Err(_) => {}
        }
        Ok(())
    }

    /// What could go if only these trees, and chunks that no tree has, were needed. Changes nothing.
    pub async fn plan_sweep(&self, trees: &[ChunkId], loose: HashSet<ChunkId>, now: i64) -> Result<SweepPlan, BlobError> {
        let mut plan = SweepPlan { live: loose, ..SweepPlan::default() };
        for tree in trees {
            self.gather(tree, &mut plan.live).await?;
        }
        {
            let index = self.index();
            let mut needed = std::collections::HashMap::<i64, u64>::new();
            let mut whole = std::collections::HashMap::<i64, u64>::new();
            for (id, at) in index.chunks() {
                *whole.entry(at.pack).or_default() += u64::from(at.length);
                if plan.live.contains(id) {
                    *needed.entry(at.pack).or_default() += u64::from(at.length);
                }
            }
            let old = |pack: &PackAt| pack.counted_on() < now - YOUNG_MS;
            for (id, pack) in index.packs.iter().filter(|(_, pack)| old(pack)) {
                let (needed, whole) = (needed.get(id).copied().unwrap_or(0), whole.get(id).copied().unwrap_or(0));
                if needed == 0 {
                    plan.dead.push(*id);
                    plan.bytes += pack.bytes;
                } else if needed * 100 < whole * WORTH_KEEPING {
                    plan.thin.push(*id);
                    plan.bytes += pack.bytes - pack.bytes * needed / whole.max(1);
                } else if pack.bytes < SMALL {
                    plan.small.push(*id);
                }
            }
        }
        if plan.small.len() < ENOUGH {
            plan.small.clear();
        }
        plan.stray = self.strays(now).await?;
        Ok(plan)
    }

    async fn strays(&self, now: i64) -> Result<Vec<String>, BlobError> {
        let known: HashSet<String> = self.index().packs.values().map(|pack| pack.name.clone()).collect();
        let mut strays = Vec::new();
        for folder in ["packs", "arrived"] {
            let mut list = self.0.packs.list(Some(&Path::from(folder)));
            while let Some(found) = list.next().await {
                let found = found?;
                let name = found.location.filename().unwrap_or_default();
                if !known.contains(name) && found.last_modified.timestamp_millis() < now - YOUNG_MS {
                    strays.push(found.location.to_string());
                }
            }
        }
        Ok(strays)
    }

    /// Carries out a plan. What someone needs since the plan was made stays.
    pub async fn sweep(&self, plan: &SweepPlan, now: i64) -> Result<(), BlobError> {
        // Nothing gets a name meanwhile; what was promised since the plan is younger than what a sweep takes.
        let _alone = self.0.sweeping.write().await;
        let still = |id: &i64| self.index().packs.get(id).is_some_and(|pack| pack.counted_on() < now - YOUNG_MS);
        let rewritten: Vec<i64> = plan.thin.iter().chain(&plan.small).copied().filter(still).collect();
        self.rewrite(&rewritten, &plan.live, now).await?;
        let gone: Vec<i64> = plan.dead.iter().copied().filter(still).chain(rewritten).collect();
        let places: Vec<Path> = gone.iter().filter_map(|id| self.index().packs.get(id).map(|pack| path_of(&pack.name))).collect();
        self.drop_packs(&gone, now).await?;
        self.rebuild().await?;
        for place in places.into_iter().chain(plan.stray.iter().map(|place| Path::from(place.as_str()))) {
            // What stays though its row is gone is a stray, and goes with a later sweep.
            if let Err(error) = self.0.packs.delete(&place).await {
                tracing::warn!(pack = %place, error = %plainly(&error), "a pack could not be deleted; a later sweep tries again");
            }
        }
        Ok(())
    }

    /// Writes the blocks of packs that hold something needed into packs of their own.
    async fn rewrite(&self, ids: &[i64], live: &HashSet<ChunkId>, now: i64) -> Result<(), BlobError> {
        for wanted in [false, true] {
            let (mut pack, mut headers) = (MAGIC.to_vec(), Vec::new());
            for id in ids {
                let (name, blocks) = match self.index().packs.get(id).filter(|pack| pack.sealed == wanted) {
                    Some(pack) => (pack.name.clone(), pack.blocks.clone()),
                    None => continue,
                };
                for block in blocks {
                    let bytes = self.0.packs.get_range(&path_of(&name), block.range()).await?;
                    let Some(block) = split(&bytes)?.pop() else { continue };
                    if block.header.chunks.iter().any(|(id, _)| live.contains(id)) {
                        headers.extend(block.header.bytes());
                        pack.extend_from_slice(&bytes);
                    }
                }
                if pack.len() > JOINED {
                    self.keep_as(std::mem::replace(&mut pack, MAGIC.to_vec()), std::mem::take(&mut headers), wanted, now).await?;
                }
            }
            if !headers.is_empty() {
                self.keep_as(pack, headers, wanted, now).await?;
            }
        }
        Ok(())
    }

    async fn keep_as(&self, pack: Vec<u8>, headers: Vec<u8>, sealed: bool, now: i64) -> Result<(), BlobError> {
        let name = format!("{:032x}", rand::random::<u128>());
        let bytes = i64::try_from(pack.len()).unwrap_or(i64::MAX);
        self.0.packs.put(&path_of(&name), pack.into()).await?;
        let mut tx = self.0.records.tx_by_rule("store", now).await?;
        tx.add_pack(&name, bytes, sealed, &headers).await?;
        Ok(tx.commit().await?)
    }

    async fn drop_packs(&self, ids: &[i64], now: i64) -> Result<(), BlobError> {
        let mut tx = self.0.records.tx_by_rule("store", now).await?;
        tx.drop_packs(ids).await?;
        Ok(tx.commit().await?)
    }

    /// Makes the index from the rows once more: chunks that lay twice are found where they still are.
    async fn rebuild(&self) -> Result<(), BlobError> {
        let mut index = super::Index::default();
        for row in self.0.records.packs().await? {
            index.add(row.id, row.name, row.sealed, row.bytes, row.made_at, &row.blocks)?;
        }
        let mut known = self.index_mut();
        index.keep_promises(&known);
        *known = index;
        Ok(())
    }
}
