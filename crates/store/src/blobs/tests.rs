//! One suite for both kinds of storage is in the system's tests, which start real object storage; here is what needs a
//! hand on the files.

use super::*;
use futures_util::StreamExt;
use ordotaxis_content::{BlockHeader, Entry, Packer, Tree, open_block};
use proptest::prelude::*;
use std::path::Path;
use std::sync::Arc;

const HOUR: i64 = 3_600_000;

async fn store(folder: &Path, key: Option<BlobKey>) -> Blobs {
    let records = Records::open(folder).await.unwrap();
    Blobs::open(&Place::Local(folder.join("blobs")), key, records).await.unwrap()
}

fn pack(chunks: &[&[u8]]) -> Vec<u8> {
    let mut packer = Packer::new().unwrap();
    chunks.iter().for_each(|chunk| packer.add(ChunkId::of(chunk), chunk).unwrap());
    packer.take().unwrap()
}

async fn send(blobs: &Blobs, pack: Vec<u8>, now: i64) -> Result<PackAdded, BlobError> {
    let mut intake = blobs.intake().await;
    for piece in pack.chunks(1000) {
        intake.add(piece.to_vec()).await?;
    }
    intake.finish(now).await
}

fn files(folder: &Path) -> Vec<std::path::PathBuf> {
    let mut found = Vec::new();
    let mut open = vec![folder.join("blobs/packs")];
    while let Some(folder) = open.pop() {
        for entry in std::fs::read_dir(folder).into_iter().flatten().flatten() {
            if entry.path().is_dir() { open.push(entry.path()) } else { found.push(entry.path()) }
        }
    }
    found
}

fn tree_of(chunks: &[&[u8]]) -> Tree {
    let entry = |(at, chunk): (usize, &&[u8])| Entry {
        path: format!("f{at}").into_bytes(),
        kind: Kind::File {
            mode: 0o644,
            modified: 0,
            size: chunk.len() as u64,
            sha256: None,
            chunks: vec![(ChunkId::of(chunk), u32::try_from(chunk.len()).unwrap())],
        },
    };
    Tree::new(chunks.iter().enumerate().map(entry).collect()).unwrap()
}

use ordotaxis_content::Kind;

#[tokio::test]
async fn what_came_in_goes_out_also_after_a_restart() {
    let folder = tempfile::tempdir().unwrap();
    let (one, two) = (b"north-pier".repeat(9000), b"lock-gate".to_vec());
    let ids = [ChunkId::of(&one), ChunkId::of(&two), ChunkId::of(b"never sent")];
    let blobs = store(folder.path(), None).await;
    assert_eq!(send(&blobs, pack(&[&one, &two]), 1).await.unwrap().chunks, 2);
    for blobs in [blobs, store(folder.path(), None).await] {
        assert_eq!(blobs.has(&ids, 1), [true, true, false]);
        assert_eq!(blobs.chunk(&ids[0]).await.unwrap(), one);
        let got = fetched(&blobs, &ids[..2], &ids).await.unwrap();
        let (header, body) = BlockHeader::read(&got).unwrap();
        assert_eq!(open_block(&header, body).unwrap().len(), one.len() + two.len());
        assert!(matches!(fetched(&blobs, &ids, &ids).await, Err(BlobError::NoChunk(id)) if id == ids[2]));
    }
}

/// The blocks that hold these, for someone who may read those.
async fn fetched(blobs: &Blobs, ids: &[ChunkId], may_read: &[ChunkId]) -> Result<Vec<u8>, BlobError> {
    let mut stream = Box::pin(blobs.blocks(ids, Arc::new(may_read.iter().copied().collect())).await?);
    let mut got = Vec::new();
    while let Some(piece) = stream.next().await {
        got.extend(piece?);
    }
    Ok(got)
}

/// What was sent together lies in one block; a reader who may read one part gets nothing of the rest.
#[tokio::test]
async fn nothing_goes_out_beside_what_may_be_read() {
    for sealed in [false, true] {
        let folder = tempfile::tempdir().unwrap();
        std::fs::write(folder.path().join("key"), [7; 32]).unwrap();
        let key = sealed.then(|| BlobKey::read(&folder.path().join("key")).unwrap());
        let chunks: Vec<Vec<u8>> = (0..40u8).map(|n| vec![n; 20_000 + usize::from(n)]).collect();
        let ids: Vec<ChunkId> = chunks.iter().map(|chunk| ChunkId::of(chunk)).collect();
        let blobs = store(folder.path(), key).await;
        send(&blobs, pack(&chunks.iter().map(Vec::as_slice).collect::<Vec<_>>()), 1).await.unwrap();
        let may_read = [ids[3], ids[17], ids[39]];
        for asked in [&may_read[..1], &may_read[..]] {
            let got = fetched(&blobs, asked, &may_read).await.unwrap();
            let mut seen = Vec::new();
            let mut rest = got.as_slice();
            while !rest.is_empty() {
                let (header, after) = BlockHeader::read(rest).unwrap();
                let (body, after) = after.split_at(header.stored as usize);
                let raw = open_block(&header, body).unwrap();
                seen.extend(header.places().map(|(id, place)| (id, raw[place].to_vec())));
                rest = after;
            }
            let expected: Vec<(ChunkId, Vec<u8>)> = [3, 17, 39].map(|at| (ids[at], chunks[at].clone())).to_vec();
            assert_eq!(seen, expected, "as they are stored, and nothing else");
        }
        let all = fetched(&blobs, &ids[..1], &ids).await.unwrap();
        assert!(BlockHeader::read(&all).unwrap().0.chunks.len() > 1, "a block that may be read whole goes as it is");
    }
}

#[tokio::test]
async fn packs_that_lie_leave_nothing_behind() {
    let folder = tempfile::tempdir().unwrap();
    let blobs = store(folder.path(), None).await;
    let good = pack(&[b"gauge", b"buoy"]);
    let mut wrong_name = good.clone();
    wrong_name[8 + 12] ^= 1;
    let cases = [good[..good.len() - 1].to_vec(), good[..10].to_vec(), b"nonsense, and a long one".to_vec(), wrong_name, vec![]];
    for case in cases {
        assert!(send(&blobs, case, 1).await.is_err());
    }
    let mut endless = pack(&[b"x"]);
    endless[8..12].copy_from_slice(&u32::MAX.to_le_bytes());
    assert!(matches!(send(&blobs, endless, 1).await, Err(BlobError::Pack(_))));
    assert_eq!(blobs.sums(), (0, 0, 0));
    assert!(files(folder.path()).is_empty());
    assert_eq!(send(&blobs, good, 1).await.unwrap().chunks, 2);
}

#[tokio::test]
async fn damage_is_found_and_what_is_good_stays() {
    let folder = tempfile::tempdir().unwrap();
    let blobs = store(folder.path(), None).await;
    // Two blocks in one pack: each chunk fills one.
    let noise = |seed: u32| -> Vec<u8> {
        (0..300_000u32)
            .flat_map(|n| (n.wrapping_mul(2_654_435_761).wrapping_add(seed).rotate_left(7) ^ n).to_le_bytes())
            .take(1 << 20)
            .collect()
    };
    let (one, two) = (noise(1), noise(2));
    send(&blobs, pack(&[&one, &two]), 1).await.unwrap();
    assert_eq!(blobs.verify(2).await.unwrap().damaged, []);
    let path = files(folder.path()).pop().unwrap();
    let mut bytes = std::fs::read(&path).unwrap();
    let last = bytes.len() - 100;
    bytes[last] ^= 4;
    std::fs::write(&path, bytes).unwrap();
    let verified = blobs.verify(3).await.unwrap();
    assert_eq!((verified.damaged.len(), verified.damaged[0].chunks, verified.chunks), (1, 1, 1));
    for blobs in [blobs, store(folder.path(), None).await] {
        assert_eq!(blobs.has(&[ChunkId::of(&one), ChunkId::of(&two)], 4), [true, false]);
        assert_eq!(blobs.chunk(&ChunkId::of(&one)).await.unwrap(), one);
        assert_eq!(blobs.verify(5).await.unwrap().damaged, []);
    }
    // Whoever has it sends it again.
    let blobs = store(folder.path(), None).await;
    send(&blobs, pack(&[&two]), 6).await.unwrap();
    assert_eq!(blobs.chunk(&ChunkId::of(&two)).await.unwrap(), two);
    std::fs::remove_file(files(folder.path()).into_iter().max_by_key(|path| path.metadata().unwrap().modified().unwrap()).unwrap())
        .unwrap();
    assert_eq!(blobs.verify(7).await.unwrap().damaged.len(), 1);
}

#[tokio::test]
async fn with_a_key_nothing_readable_lies_on_disk() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("blob.key");
    std::fs::write(&path, [7; 32]).unwrap();
    let key = BlobKey::read(&path).unwrap();
    let secret = b"the drift of the outer buoy is confidential".to_vec();
    let blobs = store(folder.path(), Some(key.clone())).await;
    send(&blobs, pack(&[&secret]), 1).await.unwrap();
    for file in files(folder.path()) {
        let bytes = std::fs::read(file).unwrap();
        assert!(!bytes.windows(12).any(|part| part == &secret[10..22]));
    }
    assert_eq!(blobs.chunk(&ChunkId::of(&secret)).await.unwrap(), secret);
    assert_eq!(blobs.verify(2).await.unwrap().damaged, []);
    // Without the key, or with another key, that is an error and no guess.
    std::fs::write(&path, [8; 32]).unwrap();
    for other in [None, Some(BlobKey::read(&path).unwrap())] {
        let error = store(folder.path(), other).await.chunk(&ChunkId::of(&secret)).await.unwrap_err();
        assert!(matches!(error, BlobError::Sealed), "{error}");
    }
    std::fs::write(&path, "short").unwrap();
    assert!(BlobKey::read(&path).is_err());
}

#[tokio::test]
async fn a_tree_is_named_only_when_all_of_it_is_there() {
    let folder = tempfile::tempdir().unwrap();
    let blobs = store(folder.path(), None).await;
    let tree = tree_of(&[b"one", b"two"]);
    let listing = tree.listing();
    blobs.put(listing.chunks.clone().into_iter(), 1).await.unwrap();
    assert!(matches!(blobs.complete(&listing.root, 1).await, Err(BlobError::NoChunk(_))));
    send(&blobs, pack(&[b"one", b"two"]), 1).await.unwrap();
    assert_eq!(blobs.complete(&listing.root, 1).await.unwrap(), tree);
    // A list that says a file is longer than what it is made of.
    let liar = |length: u32, times: usize| {
        let chunks = vec![(ChunkId::of(b"one"), length); times];
        let kind = Kind::File { mode: 0o644, modified: 0, size: u64::from(length) * times as u64, sha256: None, chunks };
        Tree::new(vec![Entry { path: b"f".to_vec(), kind }]).unwrap().listing()
    };
    for (listing, bomb) in [(liar(4, 1), false), (liar(u32::MAX, 70), true)] {
        blobs.put(listing.chunks.into_iter(), 1).await.unwrap();
        let refused = blobs.complete(&listing.root, 1).await.unwrap_err();
        assert_eq!(matches!(refused, BlobError::Bomb(_)), bomb, "{refused}");
    }
}

#[tokio::test]
async fn strays_are_swept_when_they_are_old() {
    let folder = tempfile::tempdir().unwrap();
    let blobs = store(folder.path(), None).await;
    std::fs::create_dir_all(folder.path().join("blobs/packs/00")).unwrap();
    std::fs::write(folder.path().join("blobs/packs/00/00stray"), "half").unwrap();
    let now = i64::try_from(std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap().as_millis()).unwrap();
    assert!(blobs.plan_sweep(&[], Default::default(), now).await.unwrap().is_empty());
    let plan = blobs.plan_sweep(&[], Default::default(), now + 2 * HOUR).await.unwrap();
    assert_eq!(plan.stray, ["packs/00/00stray"]);
    blobs.sweep(&plan, now + 2 * HOUR).await.unwrap();
    assert!(files(folder.path()).is_empty());
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(24))]
    /// Against the plainest model: whatever is stored, needed and swept, all that is needed is there and whole, and what
    /// is needed by nobody goes in the end.
    #[test]
    fn sweeps_take_only_what_nobody_needs(
        packs in proptest::collection::vec(proptest::collection::vec(0u8..20, 1..6), 1..16),
        needed in proptest::collection::vec(0u8..20, 0..5),
    ) {
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
        runtime.block_on(async {
            let folder = tempfile::tempdir().unwrap();
            let blobs = store(folder.path(), None).await;
            let chunk = |n: u8| format!("reading {n} ").repeat(50 + usize::from(n)).into_bytes();
            let mut stored = std::collections::BTreeSet::new();
            for numbers in &packs {
                let chunks: Vec<Vec<u8>> = numbers.iter().map(|&n| chunk(n)).collect();
                send(&blobs, pack(&chunks.iter().map(Vec::as_slice).collect::<Vec<_>>()), 0).await.unwrap();
                stored.extend(numbers.iter().copied());
            }
            let mut kept: Vec<u8> = needed.iter().copied().filter(|n| stored.contains(n)).collect();
            kept.sort_unstable();
            kept.dedup();
            let texts: Vec<Vec<u8>> = kept.iter().map(|&n| chunk(n)).collect();
            let tree = tree_of(&texts.iter().map(Vec::as_slice).collect::<Vec<_>>()).listing();
            blobs.put(tree.chunks.into_iter(), 0).await.unwrap();
            for round in 1..4 {
                let now = round * 2 * HOUR;
                let plan = blobs.plan_sweep(&[tree.root], Default::default(), now).await.unwrap();
                blobs.sweep(&plan, now).await.unwrap();
                blobs.complete(&tree.root, 0).await.unwrap();
                for &n in &kept {
                    assert_eq!(blobs.chunk(&ChunkId::of(&chunk(n))).await.unwrap(), chunk(n));
                }
                assert!(blobs.verify(now).await.unwrap().damaged.is_empty());
            }
            // In the end at least half of what lies there is needed: what is swept away is gone from the disk.
            assert_eq!(files(folder.path()).len(), blobs.sums().0);
            // And where there were many small packs they are one.
            assert!(blobs.sums().0 < 8);
        });
    }
}
