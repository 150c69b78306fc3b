//! What was sent comes back: at every moment of a service's life, whatever broke off.

use super::tests::{World, persons};
use super::wal::Wal;
use super::*;
use crate::blobs::Blobs;
use crate::{Place, WriteBack};
use ordotaxis_content::ChunkId;
use proptest::prelude::*;
use std::path::PathBuf;

async fn world() -> World {
    World::opened(WriteBack::ByBackup).await
}

/// All pieces of changes, in their order.
fn pieces(world: &World) -> Vec<PathBuf> {
    let copies = std::fs::read_dir(world.at("to/copies")).unwrap().flatten();
    let mut all: Vec<PathBuf> = copies
        .flat_map(|copy| std::fs::read_dir(copy.path().join("changes")).into_iter().flatten().flatten())
        .map(|piece| piece.path())
        .collect();
    all.sort();
    all
}

/// What happens to a service whose changes are sent.
#[derive(Debug, Clone)]
enum Step {
    Add,
    /// More than the log holds before it is written back.
    AddMuch,
    Send,
    /// A long question keeps the log from being written back.
    Read,
    ReadEnds,
    Pack,
    /// The service is killed, and begins anew.
    Killed,
}

fn steps() -> impl Strategy<Value = Vec<Step>> {
    let step = prop_oneof![
        6 => Just(Step::Add),
        2 => Just(Step::AddMuch),
        6 => Just(Step::Send),
        1 => Just(Step::Read),
        1 => Just(Step::ReadEnds),
        2 => Just(Step::Pack),
        1 => Just(Step::Killed),
    ];
    proptest::collection::vec(step, 1..24)
}

/// Carries out the steps; gives the persons there were when something was last sent, and when that was.
async fn live(world: &World, steps: &[Step]) -> Vec<(i64, Vec<String>)> {
    let (mut names, mut sent, mut reader) = (Vec::<String>::new(), Vec::new(), None);
    let mut stream = world.stream("copy-0").await;
    sent.push((stream.whole().made_at, names.clone()));
    for (number, step) in (2..).zip(steps) {
        match step {
            Step::Add => {
                let name = format!("p{number:04}");
                world.person(&name).await;
                names.push(name);
            }
            Step::AddMuch => {
                // A transaction that is rolled back leaves frames in the log that must not be taken.
                let mut tx = world.records.tx_by_rule("a test", 1).await.unwrap();
                tx.add_person("nobody", None).await.unwrap();
                drop(tx);
                let mut tx = world.records.tx_by_rule("a test", 1).await.unwrap();
                for part in 0..60 {
                    let name = format!("p{number:04}-{part:03}");
                    tx.add_person(&name, None).await.unwrap();
                    names.push(name);
                }
                tx.commit().await.unwrap();
            }
            Step::Send => {
                stream.send(number).await.unwrap();
                sent.push((number, names.clone()));
            }
            Step::Read => {
                let mut own = world.records.own_write().await;
                sqlx::query("BEGIN").execute(&mut own).await.unwrap();
                sqlx::query("SELECT * FROM persons").fetch_all(&mut own).await.unwrap();
                reader = Some(own);
            }
            Step::ReadEnds => reader = None,
            Step::Pack => world.chunk(format!("chunk {number}").as_bytes()).await,
            Step::Killed => {
                drop(stream);
                stream = world.stream_at(&format!("copy-{number:04}"), number).await;
                sent.push((number, names.clone()));
            }
        }
    }
    drop(reader);
    sent
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(12))]
    #[test]
    fn every_moment_that_was_sent_comes_back_as_it_was(steps in steps()) {
        let runtime = tokio::runtime::Builder::new_multi_thread().worker_threads(2).enable_all().build().unwrap();
        runtime.block_on(async {
            let world = world().await;
            let sent = live(&world, &steps).await;
            for (number, (moment, names)) in sent.iter().enumerate() {
                let to = format!("back-{number}");
                let restored = world.restore_at(Some(*moment), &to).await.unwrap();
                assert!(restored.until <= *moment && restored.swept == 0, "{restored:?}");
                assert_eq!(&persons(&world.at(&to)).await, names, "at {moment}");
            }
            let newest = sent.last().unwrap();
            world.restore_at(None, "back").await.unwrap();
            assert_eq!(&persons(&world.at("back")).await, &newest.1);
        });
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn packs_come_with_the_changes_that_name_them() {
    let world = world().await;
    world.chunk(b"before").await;
    let mut stream = world.stream("copy").await;
    world.chunk(b"after").await;
    stream.send(5).await.unwrap();
    world.chunk(b"unsent").await;
    let restored = world.restore_at(None, "back").await.unwrap();
    assert_eq!((restored.packs, restored.until, restored.swept), (2, 5, 0));
    let records = crate::Records::open(&world.at("back")).await.unwrap();
    let blobs = Blobs::open(&Place::Local(world.at("back/blobs")), None, records).await.unwrap();
    let names = [b"before".as_slice(), b"after", b"unsent"].map(ChunkId::of);
    assert_eq!(blobs.has(&names, 1), [true, true, false]);
    assert_eq!(blobs.verify(1).await.unwrap().damaged.len(), 0);
    // Packs that came with changes stay when an older copy goes.
    drop(stream);
    let stream = world.stream_at("later", 9).await;
    assert_eq!(keep(stream.shelf(), 1).await.unwrap(), 1);
    world.restore_at(None, "again").await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn logs_are_followed_while_they_grow() {
    let world = world().await;
    world.log("7", b"one\n");
    let mut stream = world.stream("copy").await;
    world.log("7", b"one\ntwo\n");
    world.log("8", &vec![7; 9 << 20]);
    stream.send(2).await.unwrap();
    world.log("7", b"one\ntwo\nthree\n");
    stream.send(3).await.unwrap();
    // It has moved into the store: its file goes, and what was sent of it stays.
    std::fs::remove_file(world.at("data/logs/8/0-1.0")).unwrap();
    stream.send(4).await.unwrap();
    let restored = world.restore_at(None, "back").await.unwrap();
    assert_eq!(restored.logs, 2);
    assert_eq!(std::fs::read(world.at("back/logs/7/0-1.0")).unwrap(), b"one\ntwo\nthree\n");
    assert_eq!(std::fs::read(world.at("back/logs/8/0-1.0")).unwrap(), vec![7; 9 << 20]);
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_missing_or_damaged_is_told_with_the_last_good_moment() {
    let world = world().await;
    let mut stream = world.stream("copy").await;
    for moment in 2..8 {
        world.person(&format!("p{moment}")).await;
        stream.send(moment).await.unwrap();
    }
    let all = pieces(&world);
    assert_eq!(all.len(), 7, "one that belongs to the copy itself");
    let bytes = std::fs::read(&all[4]).unwrap();
    // One that is gone, cut, changed, and one that nobody wrote.
    std::fs::remove_file(&all[4]).unwrap();
    let gap = world.restore_at(None, "a").await.unwrap_err();
    assert!(matches!(gap, BackupError::Gap(Some(4))) && gap.to_string().contains("--until 1970-01-01T00:00:00.004Z"), "{gap}");
    std::fs::write(&all[4], &bytes[..bytes.len() - 1]).unwrap();
    assert!(matches!(world.restore_at(None, "a").await.unwrap_err(), BackupError::Gap(Some(_))));
    let mut changed = bytes.clone();
    changed[40] ^= 1;
    std::fs::write(&all[4], &changed).unwrap();
    let gap = world.restore_at(None, "a").await.unwrap_err();
    assert!(matches!(gap, BackupError::Gap(Some(4))), "{gap}");
    assert!(!world.at("a").exists(), "nothing half is left");
    // Up to the last good moment all is there.
    world.restore_at(Some(4), "a").await.unwrap();
    assert_eq!(persons(&world.at("a")).await, ["p2", "p3", "p4"]);
    std::fs::write(&all[4], &bytes).unwrap();
    std::fs::write(all[4].with_file_name("readme"), "x").unwrap();
    assert!(matches!(world.restore_at(None, "b").await.unwrap_err(), BackupError::Damaged(_)));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_place_that_is_away_gets_all_when_it_is_back() {
    let world = world().await;
    let mut stream = world.stream("copy").await;
    let (to, aside) = (world.at("to/copies"), world.at("aside"));
    std::fs::rename(&to, &aside).unwrap();
    std::fs::write(&to, "no folder").unwrap();
    for moment in 2..5 {
        world.person(&format!("p{moment}")).await;
        assert!(stream.send(moment).await.is_err(), "nothing can be written there");
    }
    std::fs::remove_file(&to).unwrap();
    std::fs::rename(&aside, &to).unwrap();
    stream.send(5).await.unwrap();
    let restored = world.restore_at(None, "back").await.unwrap();
    assert_eq!(restored.until, 4, "of the last change");
    assert_eq!(persons(&world.at("back")).await, ["p2", "p3", "p4"]);
}

/// However long a place is away, SQLite's log stays short; what is too much to keep in memory ends the stream.
#[tokio::test(flavor = "multi_thread")]
async fn a_place_that_is_away_does_not_make_the_log_grow() {
    let world = world().await;
    let mut stream = world.stream("copy").await;
    let to = world.at("to/copies");
    std::fs::rename(&to, world.at("aside")).unwrap();
    std::fs::write(&to, "no folder").unwrap();
    sqlx::query("CREATE TABLE filler (bytes BLOB)").execute(world.records.writer()).await.unwrap();
    let (log, mut behind) = (world.at("data/ordotaxis.db-wal"), false);
    for round in 0..90 {
        sqlx::query("INSERT INTO filler VALUES (randomblob(1000000))").execute(world.records.writer()).await.unwrap();
        world.log(&round.to_string(), b"what a job printed");
        let refused = stream.send(round).await.unwrap_err();
        let length = std::fs::metadata(&log).unwrap().len();
        assert!(length < 24 << 20, "round {round}: {length}");
        behind = matches!(refused, BackupError::Behind);
        if behind {
            break;
        }
    }
    assert!(behind, "at most so much is kept for it");
    drop(stream);
    let before = std::fs::metadata(&log).unwrap().len();
    for round in 0..20 {
        world.records.write_back().await.unwrap();
        world.person(&format!("q{round}")).await;
    }
    assert!(std::fs::metadata(&log).unwrap().len() <= before + (1 << 20), "nor without a stream");
}

#[tokio::test(flavor = "multi_thread")]
async fn two_do_not_write_to_one_place_and_an_odd_log_ends_the_stream() {
    let world = world().await;
    let mut stream = world.stream("copy").await;
    let busy = Shelf::open(&Place::Local(world.at("to")), true).await.err().expect("a refusal");
    assert!(matches!(busy, BackupError::Busy(_)), "{busy}");
    world.person("ines").await;
    stream.send(2).await.unwrap();
    // Somebody else writes the log back, and it is begun anew: what was at its end cannot be told.
    let mut other = world.records.own_write().await;
    sqlx::query("PRAGMA wal_checkpoint(TRUNCATE)").execute(&mut other).await.unwrap();
    world.person("odd").await;
    let behind = stream.send(3).await.unwrap_err();
    assert!(matches!(behind, BackupError::Behind), "{behind}");
    drop(stream);
    world.stream_at("anew", 4).await;
    world.restore_at(None, "back").await.unwrap();
    assert_eq!(persons(&world.at("back")).await, ["ines", "odd"]);
}

/// Found by reading: right after a log was begun anew it has a header and no page.
#[tokio::test(flavor = "multi_thread")]
async fn a_log_that_was_just_begun_anew_is_nothing_to_write_back() {
    let world = world().await;
    world.person("ines").await;
    let mut stream = world.stream("copy").await;
    stream.send(2).await.unwrap();
    let all = pieces(&world);
    let log = std::fs::read(all.last().unwrap()).unwrap();
    let piece = super::changes::Piece { number: all.len() as u64 + 1, round: 2, at: 0, until: 3, bytes: log[..32].to_vec() };
    super::changes::put(stream.shelf(), "copy", &piece).await.unwrap();
    let restored = world.restore_at(None, "back").await.unwrap();
    assert_eq!(restored.until, 3);
    assert_eq!(persons(&world.at("back")).await, ["ines"]);
}

#[test]
fn only_whole_transactions_are_read_and_garbage_is_not() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("wal");
    for bytes in [Vec::new(), vec![0; 31], vec![0xff; 4096], [&0x377f_0682_u32.to_be_bytes()[..], &[0; 28]].concat()] {
        std::fs::write(&path, &bytes).unwrap();
        assert_eq!(Wal::default().next(&std::fs::File::open(&path).unwrap()).unwrap(), None);
    }
}
