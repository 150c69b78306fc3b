//! The program as it is shipped.

use crate::setup;

/// What is shipped: the program without debug information, and that beside it, where debuggers and backtraces look.
pub(crate) fn release() -> Result<(), String> {
    setup::programs(setup::FOR_RELEASE)?;
    setup::console()?;
    eprintln!("building for release; the first time that takes ten to twenty-five minutes on two cores");
    setup::run("cargo", &["build", "--quiet", "--release", "--package", "ordotaxis-cli"])?;
    let folder = setup::root().join("target/ship");
    std::fs::create_dir_all(&folder).map_err(|error| format!("{}: {error}", folder.display()))?;
    let built = setup::root().join("target/release/ordotaxis").display().to_string();
    setup::run_in("target/ship", "objcopy", &["--only-keep-debug", &built, "ordotaxis.debug"])?;
    setup::run_in("target/ship", "objcopy", &["--strip-all", "--add-gnu-debuglink=ordotaxis.debug", &built, "ordotaxis"])?;
    for name in ["ordotaxis", "ordotaxis.debug"] {
        let bytes = std::fs::metadata(folder.join(name)).map_err(|error| format!("{name}: {error}"))?.len();
        println!("target/ship/{name}  {} MB", bytes / 1_000_000);
    }
    Ok(())
}
