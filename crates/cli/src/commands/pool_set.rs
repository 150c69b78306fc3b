//! The options of `pool set`, put over what the pool was set to.

use super::runner::TakingChoice;
use crate::failure::Failure;
use clap::ValueEnum;
use ordotaxis_wire::pool::{CommandSettings, PoolOffers, PoolSettings, PracticeSettings, Provider, SlurmSettings};
use std::path::PathBuf;

#[derive(clap::Args)]
pub(crate) struct SetOptions {
    /// A TOML file with all settings, as `[pool.NAME]` in the service's configuration has them; options change what it says
    #[arg(long, value_name = "FILE")]
    file: Option<PathBuf>,
    /// Who makes its machines
    #[arg(long, value_enum)]
    provider: Option<ProviderChoice>,
    /// Machines at the same time
    #[arg(long)]
    most: Option<u32>,
    /// So many are kept ready
    #[arg(long)]
    least: Option<u32>,
    /// What jobs may ask for with `where`
    #[arg(long)]
    label: Vec<String>,
    /// Cores of a machine
    #[arg(long)]
    cores: Option<u32>,
    /// Memory of a machine, such as 8GiB
    #[arg(long)]
    memory: Option<String>,
    /// Graphics processors of a machine
    #[arg(long)]
    gpus: Option<u32>,
    /// A tool of its machines: NAME or "NAME VERSION"
    #[arg(long)]
    tool: Vec<String>,
    /// Jobs that a machine does before it leaves
    #[arg(long)]
    jobs: Option<u32>,
    /// Jobs that a machine does at the same time
    #[arg(long)]
    slots: Option<u32>,
    /// The longest time until a machine's runner signs on
    #[arg(long, value_name = "TIME")]
    start: Option<String>,
    /// How long a machine stays that has nothing to do
    #[arg(long, value_name = "TIME")]
    idle: Option<String>,
    /// The longest life of a machine
    #[arg(long, value_name = "TIME")]
    lasts: Option<String>,
    /// What a machine costs in an hour
    #[arg(long)]
    price: Option<f64>,
    /// Only jobs of this project, and of others named so
    #[arg(long)]
    project: Vec<String>,
    /// Whether it takes proposals from outside
    #[arg(long, value_enum)]
    outside: Option<TakingChoice>,
    /// How its machines fence jobs in: sandbox, container or host
    #[arg(long)]
    isolation: Option<String>,
    /// With provider command: the program's name
    #[arg(long)]
    program: Option<String>,
    /// With provider slurm: the partition
    #[arg(long)]
    partition: Option<String>,
    /// With provider practice: the practice cloud's address
    #[arg(long, value_name = "URL")]
    cloud: Option<String>,
}

#[derive(Clone, Copy, ValueEnum)]
enum ProviderChoice {
    Process,
    Command,
    Slurm,
    Practice,
}

impl From<ProviderChoice> for Provider {
    fn from(choice: ProviderChoice) -> Provider {
        match choice {
            ProviderChoice::Process => Provider::Process,
            ProviderChoice::Command => Provider::Command,
            ProviderChoice::Slurm => Provider::Slurm,
            ProviderChoice::Practice => Provider::Practice,
        }
    }
}

/// What the pool is to be: what is said, over the file, over what it was.
pub(super) fn settings(options: SetOptions, known: Option<PoolSettings>) -> Result<PoolSettings, Failure> {
    let base = match &options.file {
        Some(path) => Some(read(path)?),
        None => known,
    };
    let mut settings = match (base, options.provider) {
        (Some(base), _) => base,
        (None, Some(provider)) => new(provider.into()),
        (None, None) => {
            return Err(Failure::new(2, "this pool is new: who makes its machines is not said", "name --provider and --most, or --file"));
        }
    };
    if let Some(provider) = options.provider {
        settings.provider = provider.into();
    }
    if let Some(most) = options.most {
        settings.most = most;
    }
    let list = |said: Vec<String>, place: &mut Vec<String>| {
        if !said.is_empty() {
            *place = said;
        }
    };
    list(options.label, &mut settings.labels);
    list(options.tool, &mut settings.offers.tools);
    if !options.project.is_empty() {
        settings.projects = Some(options.project);
    }
    fn over<T>(said: Option<T>, place: &mut Option<T>) {
        if said.is_some() {
            *place = said;
        }
    }
    over(options.least, &mut settings.least);
    over(options.cores, &mut settings.offers.cores);
    over(options.memory, &mut settings.offers.memory);
    over(options.gpus, &mut settings.offers.gpus);
    over(options.jobs, &mut settings.jobs);
    over(options.slots, &mut settings.slots);
    over(options.start, &mut settings.start);
    over(options.idle, &mut settings.idle);
    over(options.lasts, &mut settings.lasts);
    over(options.price, &mut settings.price);
    over(options.isolation, &mut settings.isolation);
    if let Some(outside) = options.outside {
        settings.outside = outside.into();
    }
    if let Some(program) = options.program {
        let kept = settings.command.take().map(|command| command.settings).unwrap_or_default();
        settings.command = Some(CommandSettings { program, settings: kept });
    }
    if let Some(partition) = options.partition {
        settings.slurm = Some(SlurmSettings { partition: Some(partition), ..settings.slurm.take().unwrap_or_default() });
    }
    if let Some(url) = options.cloud {
        settings.practice = Some(PracticeSettings { url });
    }
    Ok(settings)
}

fn read(path: &PathBuf) -> Result<PoolSettings, Failure> {
    let wrong = |why: String| Failure::new(2, format!("{} cannot be used: {why}", path.display()), "docs/pools.md lists all settings");
    let text = std::fs::read_to_string(path).map_err(|error| wrong(error.to_string()))?;
    toml::from_str(&text).map_err(|error| wrong(error.message().to_owned()))
}

fn new(provider: Provider) -> PoolSettings {
    PoolSettings {
        provider,
        labels: Vec::new(),
        offers: PoolOffers::default(),
        most: 1,
        least: None,
        start: None,
        idle: None,
        jobs: None,
        slots: None,
        lasts: None,
        price: None,
        projects: None,
        outside: Default::default(),
        isolation: None,
        command: None,
        slurm: None,
        practice: None,
    }
}
