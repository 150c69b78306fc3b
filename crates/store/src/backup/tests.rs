//! Copies are whole or do not count, and come back as they were.

use super::*;
use crate::blobs::Blobs;
use crate::{Place, Records, WriteBack};
use ordotaxis_content::{ChunkId, Packer};
use std::path::{Path, PathBuf};

#[test]
fn a_list_is_read_as_it_was_written() {
    use super::whole::{Listed, list, read_list};
    let pack = Listed { name: "a".repeat(32), bytes: 7, sha256: "0".repeat(64) };
    assert_eq!(read_list(&list(&[pack.clone(), pack.clone()])), Some(vec![pack.clone(), pack]));
    assert_eq!(read_list(""), Some(Vec::new()));
    for odd in ["a 1 b\n", "../../../../etc/passwd 1 0\n", &format!("{} x {}\n", "a".repeat(32), "0".repeat(64))] {
        assert_eq!(read_list(odd), None, "{odd}");
    }
}

/// A data folder, and the service's handles to it: it is backed up while it is used.
pub(super) struct World {
    folder: tempfile::TempDir,
    pub(super) records: Records,
    blobs: Blobs,
}

impl World {
    async fn new() -> World {
        World::opened(WriteBack::BySqlite).await
    }

    pub(super) async fn opened(write_back: WriteBack) -> World {
        let folder = tempfile::tempdir().unwrap();
        let data = folder.path().join("data");
        std::fs::create_dir(&data).unwrap();
        let records = Records::open_as(&data, write_back).await.unwrap();
        let blobs = Blobs::open(&Place::Local(data.join("blobs")), None, records.clone()).await.unwrap();
        World { folder, records, blobs }
    }

    pub(super) fn at(&self, name: &str) -> PathBuf {
        self.folder.path().join(name)
    }

    pub(super) async fn shelf(&self) -> Shelf {
        Shelf::open(&Place::Local(self.at("to")), true).await.unwrap()
    }

    pub(super) async fn person(&self, name: &str) {
        let mut tx = self.records.tx_by_rule("a test", 1).await.unwrap();
        tx.add_person(name, None).await.unwrap();
        tx.commit().await.unwrap();
    }

    pub(super) async fn chunk(&self, bytes: &[u8]) {
        let mut packer = Packer::new().unwrap();
        packer.add(ChunkId::of(bytes), bytes).unwrap();
        let mut intake = self.blobs.intake().await;
        intake.add(packer.take().unwrap()).await.unwrap();
        intake.finish(1).await.unwrap();
    }

    pub(super) fn log(&self, run: &str, bytes: &[u8]) {
        let folder = self.at("data/logs").join(run);
        std::fs::create_dir_all(&folder).unwrap();
        std::fs::write(folder.join("0-1.0"), bytes).unwrap();
    }

    async fn back_up(&self, name: &str) -> Result<Made, BackupError> {
        let data = self.at("data");
        let key = (data.join("secrets.key"), "secrets.key".to_owned());
        let ask = Ask { packs: Place::Local(data.join("blobs")), data, keys: vec![key], now: 1, name: name.to_owned() };
        back_up(&self.shelf().await, &ask).await
    }

    pub(super) fn ask(&self, name: &str) -> Ask {
        let data = self.at("data");
        Ask { packs: Place::Local(data.join("blobs")), data, keys: Vec::new(), now: 1, name: name.to_owned() }
    }

    /// A copy that goes on.
    pub(super) async fn stream(&self, name: &str) -> Stream {
        Stream::begin(self.shelf().await, self.records.clone(), self.ask(name)).await.unwrap()
    }

    pub(super) async fn stream_at(&self, name: &str, now: i64) -> Stream {
        Stream::begin(self.shelf().await, self.records.clone(), Ask { now, ..self.ask(name) }).await.unwrap()
    }

    pub(super) async fn restore_at(&self, until: Option<i64>, to: &str) -> Result<Restored, BackupError> {
        let shelf = Shelf::open(&Place::Local(self.at("to")), false).await.unwrap();
        restore(&shelf, None, until, &self.at(to)).await
    }

    async fn restore(&self, name: Option<&str>, to: &str) -> Result<Restored, BackupError> {
        let shelf = Shelf::open(&Place::Local(self.at("to")), false).await?;
        restore(&shelf, name, None, &self.at(to)).await
    }

    fn packs(&self) -> Vec<PathBuf> {
        let folders = std::fs::read_dir(self.at("to/packs")).into_iter().flatten().flatten();
        folders.flat_map(|folder| std::fs::read_dir(folder.path()).unwrap()).map(|file| file.unwrap().path()).collect()
    }
}

pub(super) async fn persons(data: &Path) -> Vec<String> {
    let records = Records::open(data).await.unwrap();
    let names = records.persons().await.unwrap().into_iter().map(|person| person.name).collect();
    records.close().await;
    names
}

#[tokio::test]
async fn each_copy_comes_back_as_it_was_and_packs_are_written_once() {
    let world = World::new().await;
    world.person("ines").await;
    world.chunk(b"one").await;
    world.log("7", b"hello");
    std::fs::write(world.at("data/secrets.key"), [7; 32]).unwrap();
    let first = world.back_up("2026-01").await.unwrap();
    assert_eq!((first.new_packs, first.whole.packs, first.whole.logs, first.whole.keys), (1, 1, 1, true));
    world.person("odd").await;
    world.chunk(b"two").await;
    let second = world.back_up("2026-02").await.unwrap();
    assert_eq!((second.new_packs, second.whole.packs), (1, 2));
    let restored = world.restore(Some("2026-01"), "old").await.unwrap();
    assert_eq!((restored.packs, restored.logs, restored.keys), (1, 1, vec!["secrets.key".to_owned()]));
    assert_eq!(persons(&world.at("old")).await, ["ines"]);
    assert_eq!(std::fs::read(world.at("old/logs/7/0-1.0")).unwrap(), b"hello");
    assert_eq!(std::fs::read(world.at("old/secrets.key")).unwrap(), [7; 32]);
    world.restore(None, "new").await.unwrap();
    assert_eq!(persons(&world.at("new")).await, ["ines", "odd"]);
    let records = Records::open(&world.at("new")).await.unwrap();
    let blobs = Blobs::open(&Place::Local(world.at("new/blobs")), None, records).await.unwrap();
    assert_eq!(blobs.has(&[ChunkId::of(b"one"), ChunkId::of(b"two"), ChunkId::of(b"three")], 1), [true, true, false]);
    let verified = blobs.verify(1).await.unwrap();
    assert_eq!((verified.packs, verified.damaged.len()), (2, 0));
    // A folder that is in use is left alone.
    let refused = world.restore(None, "new").await.unwrap_err();
    assert!(matches!(refused, BackupError::InUse(_)), "{refused}");
}

#[tokio::test]
async fn what_broke_off_does_not_count_and_old_copies_go() {
    let world = World::new().await;
    world.chunk(b"one").await;
    for name in ["1", "2", "3"] {
        world.person(&format!("p{name}")).await;
        world.back_up(name).await.unwrap();
    }
    // As if it had been killed before its last word.
    std::fs::remove_file(world.at("to/copies/3/whole.json")).unwrap();
    assert_eq!(world.restore(None, "a").await.unwrap().whole.name, "2");
    let none = world.restore(Some("3"), "b").await.unwrap_err();
    assert!(none.to_string().contains("there are: 1, 2"), "{none}");
    world.chunk(b"more").await;
    world.back_up("4").await.unwrap();
    assert!(!world.at("to/copies/3").join("database").exists(), "what broke off is taken away by the next");
    assert_eq!(world.packs().len(), 2);
    // A pack that only an older copy names goes with it.
    let mut tx = world.records.tx_by_rule("a test", 1).await.unwrap();
    let oldest = world.records.packs().await.unwrap()[0].id;
    tx.drop_packs(&[oldest]).await.unwrap();
    tx.commit().await.unwrap();
    world.back_up("5").await.unwrap();
    let shelf = world.shelf().await;
    assert_eq!(keep(&shelf, 1).await.unwrap(), 3);
    let left: Vec<String> = shelf.copies().await.unwrap().into_iter().map(|whole| whole.name).collect();
    assert_eq!((left, world.packs().len()), (vec!["5".to_owned()], 1));
    world.restore(None, "c").await.unwrap();
    assert_eq!(keep(&shelf, 0).await.unwrap(), 0, "the newest always stays");
}

/// Found by use: after `keep` a name is free again, and sorts before those that are older.
#[tokio::test]
async fn the_newest_is_the_one_that_was_made_last_whatever_it_is_called() {
    let world = World::new().await;
    for (name, person) in [("2026Z", "a"), ("2026Z.2", "b")] {
        world.person(person).await;
        world.back_up(name).await.unwrap();
    }
    assert_eq!(keep(&world.shelf().await, 1).await.unwrap(), 1);
    world.person("c").await;
    // Also when the clock was set back meanwhile.
    for name in ["2026Z", "1999Z"] {
        let made = world.back_up(name).await.unwrap();
        let newest = world.restore(None, &format!("back-{name}")).await.unwrap();
        assert_eq!(newest.whole, made.whole);
    }
    let order: Vec<String> = world.shelf().await.copies().await.unwrap().into_iter().map(|whole| whole.name).collect();
    assert_eq!(order, ["2026Z.2", "2026Z", "1999Z"]);
}

#[tokio::test]
async fn damage_is_found_and_nothing_half_is_left() {
    let world = World::new().await;
    world.chunk(b"one").await;
    world.back_up("1").await.unwrap();
    let pack = world.packs().pop().unwrap();
    let good = std::fs::read(&pack).unwrap();
    let (database, whole) = (world.at("to/copies/1/database"), world.at("to/copies/1/whole.json"));
    let (rows, says) = (std::fs::read(&database).unwrap(), std::fs::read_to_string(&whole).unwrap());
    let mut flipped = good.clone();
    *flipped.last_mut().unwrap() ^= 1;
    let cut = &rows[..rows.len() - 512];
    let mut odd = rows.clone();
    odd[200] ^= 8;
    for (path, bytes, words) in [
        (&pack, flipped.as_slice(), "pack"),
        (&pack, b"", "pack"),
        (&database, cut, "database"),
        (&database, &odd, "database"),
        (&whole, b"{}", "cannot be read"),
        (&whole, says.replace("\"format\": 1", "\"format\": 9").as_bytes(), "newer version"),
        (&whole, says.replace("\"schema\": ", "\"schema\": 9").as_bytes(), "newer version"),
        (&world.at("to/copies/1/packs"), b"x", "list of packs"),
    ] {
        let before = std::fs::read(path).unwrap();
        std::fs::write(path, bytes).unwrap();
        let refused = world.restore(None, "back").await.unwrap_err();
        assert!(refused.to_string().contains(words), "{}: {refused}", path.display());
        std::fs::write(path, before).unwrap();
        let left: Vec<_> = std::fs::read_dir(world.folder.path()).unwrap().map(|entry| entry.unwrap().file_name()).collect();
        assert_eq!(left.len(), 2, "{left:?}");
    }
    std::fs::remove_file(&pack).unwrap();
    assert!(world.restore(None, "back").await.unwrap_err().to_string().contains("is gone"));
    // The next backup notices that it is gone, and writes it again.
    assert_eq!(world.back_up("2").await.unwrap().new_packs, 1);
    world.restore(None, "back").await.unwrap();
}

#[tokio::test]
async fn other_folders_are_left_alone() {
    let world = World::new().await;
    std::fs::create_dir(world.at("photos")).unwrap();
    std::fs::write(world.at("photos/gauge.png"), "x").unwrap();
    let open = async |name: &str, make| Shelf::open(&Place::Local(world.at(name)), make).await.map(drop).unwrap_err();
    assert!(matches!(open("photos", true).await, BackupError::Other(_)));
    assert!(matches!(open("photos", false).await, BackupError::None(_)));
    assert!(matches!(open("nowhere", false).await, BackupError::None(_)));
    assert!(!world.at("nowhere").exists());
    std::fs::create_dir(world.at("newer")).unwrap();
    std::fs::write(world.at("newer/FORMAT"), "ordotaxis backup 2\n").unwrap();
    assert!(matches!(open("newer", true).await, BackupError::Newer(_)));
    std::fs::create_dir(world.at("empty")).unwrap();
    let ask = Ask { data: world.at("empty"), packs: Place::Local(world.at("empty/blobs")), keys: Vec::new(), now: 1, name: "1".into() };
    assert!(matches!(back_up(&world.shelf().await, &ask).await, Err(BackupError::NoData(_))));
}
