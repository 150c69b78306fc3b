//! What is given to people who install: an archive, a Debian package, and an image for containers, each with the program,
//! its pages of manual and completions, and units of systemd. From a program that was built before, or one built for that.

mod archive;
mod deb;
mod image;
mod named;
mod say;
mod tree;

use crate::setup;
use named::Release;
use std::path::PathBuf;
use tree::Tree;

/// What is made, from which program, and where.
pub(crate) struct Order {
    /// None: it is built for release first.
    pub(crate) program: Option<PathBuf>,
    pub(crate) to: PathBuf,
}

impl Order {
    /// From the words after `dist`.
    pub(crate) fn read(words: &[&str]) -> Result<Order, String> {
        let mut order = Order { program: None, to: setup::root().join("target/ship") };
        let mut words = words.iter();
        while let Some(word) = words.next() {
            let value = words.next().ok_or_else(|| format!("{word} needs a value"))?;
            match *word {
                "--of" => order.program = Some(PathBuf::from(value)),
                "--to" => order.to = PathBuf::from(value),
                _ => return Err("write `cargo xtask dist`, with `--of PROGRAM` or `--to DIR` or both".into()),
            }
        }
        Ok(order)
    }
}

pub(crate) fn dist(order: &Order) -> Result<(), String> {
    setup::programs(setup::FOR_DIST)?;
    let program = match &order.program {
        Some(program) => program.clone(),
        None => {
            crate::release::release()?;
            setup::root().join("target/ship/ordotaxis")
        }
    };
    std::fs::create_dir_all(&order.to).map_err(|error| format!("{}: {error}", order.to.display()))?;
    let release = Release::of(&program)?;
    let work = tempfile::tempdir_in(&order.to).map_err(|error| format!("{}: {error}", order.to.display()))?;
    let tree = Tree::make(work.path(), &program)?;
    let made =
        [archive::make(&tree, &release, &order.to)?, deb::make(&tree, &release, &order.to)?, image::make(&tree, &release, &order.to)?];
    for path in made {
        let bytes = std::fs::metadata(&path).map_err(|error| format!("{}: {error}", path.display()))?.len();
        println!("{}  {} MB", path.display(), bytes.div_ceil(1_000_000));
    }
    Ok(())
}
