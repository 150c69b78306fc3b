//! What the service is configured with when it starts: options and an optional TOML file (`--config`).

use crate::ages::{Ages, AgesFile};
use crate::collector::{Ship, ShipFile, Traces, TracesFile};
use ordotaxis_store::{Objects, Place};
use ordotaxis_wire::pool::PoolSettings;
use serde::Deserialize;
use std::collections::BTreeMap;
use std::net::IpAddr;
use std::path::{Path, PathBuf};
use std::time::Duration;

/// All that the service is configured with, every default filled in.
#[derive(Debug, Clone)]
pub struct Settings {
    /// Everything that lasts is below this folder.
    pub data: PathBuf,
    /// How people reach the service; links in statuses begin with it. None: the address that is listened on.
    pub public_url: Option<String>,
    /// How long a runner may be silent before its jobs are given to others.
    pub lease: Duration,
    /// How often a runner renews its leases.
    pub beat: Duration,
    /// How long open calls may go on after the first signal.
    pub drain: Duration,
    /// How often a repository that cannot be reached is tried before that is recorded as a run.
    pub fetch_tries: u32,
    /// The first pause before a failed fetch or message is tried again; it doubles each time.
    pub retry_pause: Duration,
    /// How long a hook may be on the way before what it should have told counts as found by looking.
    pub hook_grace: Duration,
    /// The most bytes that one attempt's log may have.
    pub log_limit: u64,
    /// The key that secrets are sealed with; made on first use. None: `secrets.key` in the data folder.
    pub key_file: Option<PathBuf>,
    /// Where packs are kept. None: `blobs` in the data folder.
    pub objects: Option<Objects>,
    /// The key that packs are sealed with. None: they are not.
    pub store_key_file: Option<PathBuf>,
    /// How long artifacts are kept that do not say it themselves.
    pub keep: Duration,
    /// How long all else is kept.
    pub ages: Ages,
    /// How much the store may hold, packed; what was unused longest goes first. None: no limit.
    pub store_limit: Option<u64>,
    /// Names and addresses that the service is reached by, beside `public_url` and where it listens.
    pub hosts: Vec<String>,
    /// Proxies whose word about who calls counts; with any, the service may listen beyond loopback without TLS.
    pub behind_proxy: Vec<IpAddr>,
    /// Certificate chain and key, as PEM.
    pub tls: Option<Tls>,
    /// Numbers and description without signing in.
    pub open: Open,
    /// Folders below which repositories of this machine may lie. None: no repository of this machine's own disk is read.
    pub local_git: Vec<PathBuf>,
    /// Whether files may name repositories at loopback and link-local addresses.
    pub near_git: bool,
    /// What the first person is called.
    pub owner: String,
    /// Where persons sign in with OpenID Connect.
    pub sign_in: Option<SignIn>,
    /// The mail server. None: no mail is sent.
    pub mail: Option<MailSettings>,
    /// After three messages to one receiver within this, what follows is gathered into one.
    pub notice_pause: Duration,
    /// Whether webhooks of projects may lie on this machine or in a private network.
    pub near_notices: bool,
    /// Runners on demand, by name.
    pub pools: BTreeMap<String, PoolSettings>,
    /// The folder of the programs that pools may name. None: no pool may.
    pub pool_programs: Option<PathBuf>,
    /// Where traces of runs are sent. None: nowhere.
    pub traces: Option<Traces>,
    /// Where logs of jobs are sent, by name.
    pub ships: BTreeMap<String, Ship>,
    /// The backup that the service itself keeps. None: it keeps none.
    pub backup: Option<BackupSettings>,
    /// For a rehearsal alone.
    pub rehearsal: Option<Rehearsal>,
}

/// `[backup]`: a copy of all that lasts, which the service follows with all that changes.
#[derive(Debug, Clone)]
pub struct BackupSettings {
    pub place: Place,
    /// How often what has changed is sent.
    pub every: Duration,
    /// How old a copy gets before a new one is begun.
    pub anew: Duration,
    /// So many copies stay.
    pub keep: usize,
    /// Whether keys are in it.
    pub keys: bool,
}

/// What the service of a rehearsal does otherwise than any other.
#[derive(Debug, Clone)]
pub struct Rehearsal {
    /// The occasion that a start by hand plays through.
    pub occasion: ordotaxis_core::plan::Occasion,
    /// A folder where what caches hold is kept for the next rehearsal. None: it ends with this one.
    pub kept: Option<PathBuf>,
    /// The runner takes jobs that it is not fit for.
    pub anyway: bool,
}

/// `[tls]`: files in PEM. A certificate that is renewed is read again on SIGHUP, without a restart.
#[derive(Debug, Clone, PartialEq, Eq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Tls {
    pub certificate: PathBuf,
    pub key: PathBuf,
}

/// `[sign_in]`: a provider of OpenID Connect.
#[derive(Debug, Clone, PartialEq, Eq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct SignIn {
    /// What the sign-in page calls it.
    pub name: String,
    /// Its address, as its discovery document says it.
    pub issuer: String,
    pub client_id: String,
    pub client_secret_file: PathBuf,
    #[serde(default)]
    pub newcomers: Newcomers,
}

/// What becomes of someone whom the provider knows and nobody here does.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Newcomers {
    /// An owner adds the identity to a person first.
    #[default]
    Refuse,
    /// A person is added, with no role.
    Add,
}

/// `[mail]`: the server that takes mail.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct MailSettings {
    pub host: String,
    pub port: u16,
    pub tls: MailTls,
    pub from: String,
    pub user: Option<String>,
    pub password: Option<String>,
    /// A certificate in PEM that signs the server's, besides those that everybody trusts.
    pub ca_file: Option<PathBuf>,
}

/// How the way to the mail server is kept private.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum MailTls {
    /// To this machine only.
    None,
    #[default]
    Starttls,
    Tls,
}

/// `[mail]` as it is written.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
struct MailFile {
    /// `HOST:PORT`
    server: String,
    #[serde(default)]
    tls: MailTls,
    from: String,
    user: Option<String>,
    password_file: Option<PathBuf>,
    ca_file: Option<PathBuf>,
}

/// `[notices]`
#[derive(Debug, Default, Deserialize)]
#[serde(deny_unknown_fields)]
struct NoticesFile {
    pause: Option<String>,
    #[serde(default)]
    near: bool,
}

/// `open = ["metrics", "description"]`
#[derive(Debug, Clone, Copy, Default)]
pub struct Open {
    pub metrics: bool,
    pub description: bool,
}

/// `[git]`: which repositories may be read.
#[derive(Debug, Default, Deserialize)]
#[serde(deny_unknown_fields)]
struct GitFile {
    #[serde(default)]
    local: Vec<PathBuf>,
    #[serde(default)]
    near: bool,
}

/// The file's keys; all may be left out.
#[derive(Debug, Default, Deserialize)]
#[serde(deny_unknown_fields)]
struct File {
    public_url: Option<String>,
    lease: Option<String>,
    beat: Option<String>,
    drain: Option<String>,
    fetch_tries: Option<u32>,
    retry_pause: Option<String>,
    hook_grace: Option<String>,
    log_limit_mib: Option<u64>,
    key_file: Option<PathBuf>,
    keep: Option<String>,
    store: Option<StoreFile>,
    #[serde(default)]
    hosts: Vec<String>,
    #[serde(default)]
    behind_proxy: Vec<IpAddr>,
    tls: Option<Tls>,
    #[serde(default)]
    open: Vec<String>,
    #[serde(default)]
    git: GitFile,
    sign_in: Option<SignIn>,
    mail: Option<MailFile>,
    #[serde(default)]
    notices: NoticesFile,
    #[serde(default)]
    pool: BTreeMap<String, PoolSettings>,
    pool_programs: Option<PathBuf>,
    traces: Option<TracesFile>,
    #[serde(default)]
    ship: BTreeMap<String, ShipFile>,
    backup: Option<BackupFile>,
    #[serde(default)]
    ages: AgesFile,
}

/// `[backup]` as it is written.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
struct BackupFile {
    /// A folder; or the keys of S3-compatible storage.
    to: Option<PathBuf>,
    endpoint: Option<String>,
    bucket: Option<String>,
    region: Option<String>,
    key_id: Option<String>,
    secret_file: Option<PathBuf>,
    every: Option<String>,
    anew: Option<String>,
    keep: Option<usize>,
    #[serde(default)]
    keys: bool,
}

/// `[store]`: where packs are kept.
#[derive(Debug, Default, Deserialize)]
#[serde(deny_unknown_fields)]
struct StoreFile {
    /// An address of S3-compatible storage; the keys below belong to it.
    endpoint: Option<String>,
    bucket: Option<String>,
    region: Option<String>,
    key_id: Option<String>,
    secret_file: Option<PathBuf>,
    /// The address at which runners reach the storage themselves.
    direct: Option<String>,
    /// Encrypts what is stored from now on: a file of 32 bytes.
    key_file: Option<PathBuf>,
    limit_mib: Option<u64>,
}

/// Why a configuration cannot be used; each names the key.
#[derive(Debug, thiserror::Error)]
pub enum SettingsError {
    #[error("the configuration {} could not be read", path.display())]
    Read {
        path: PathBuf,
        #[source]
        source: std::io::Error,
    },
    #[error("the configuration {} has a mistake: {}", path.display(), source.message())]
    Form {
        path: PathBuf,
        #[source]
        source: Box<toml::de::Error>,
    },
    #[error("`{key}` in the configuration is not a length of time: `{value}`; write one such as \"20s\"")]
    Duration { key: &'static str, value: String },
    #[error("`open` in the configuration knows `metrics` and `description`, not `{0}`")]
    Open(String),
    #[error("`[mail]` in the configuration: {0}")]
    Mail(String),
    #[error("`[pool.{name}]` in the configuration: {why}")]
    Pool { name: String, why: String },
    #[error("`[{table}]` in the configuration: {why}")]
    Collector { table: String, why: String },
    #[error("`[{table}]` in the configuration says `endpoint` but not `{key}`")]
    Store { table: &'static str, key: &'static str },
    #[error("`[ages]` in the configuration: {0}")]
    Ages(String),
    #[error("`[backup]` in the configuration {0}")]
    Backup(String),
    #[error("`direct` of `[store]` in the configuration {0}")]
    Direct(&'static str),
}

impl Settings {
    /// The defaults, for this data folder.
    pub fn new(data: PathBuf) -> Settings {
        Settings {
            data,
            public_url: None,
            lease: Duration::from_secs(20),
            beat: Duration::from_secs(5),
            drain: Duration::from_secs(10),
            fetch_tries: 20,
            retry_pause: Duration::from_secs(1),
            hook_grace: Duration::from_secs(20),
            log_limit: ordotaxis_wire::runner::log_limit(),
            key_file: None,
            objects: None,
            store_key_file: None,
            keep: Duration::from_secs(90 * 24 * 3600),
            ages: Ages::default(),
            store_limit: None,
            hosts: Vec::new(),
            behind_proxy: Vec::new(),
            tls: None,
            open: Open::default(),
            local_git: Vec::new(),
            near_git: false,
            owner: "owner".to_owned(),
            sign_in: None,
            mail: None,
            notice_pause: Duration::from_secs(10 * 60),
            near_notices: false,
            pools: BTreeMap::new(),
            pool_programs: None,
            traces: None,
            ships: BTreeMap::new(),
            backup: None,
            rehearsal: None,
        }
    }

    /// Takes over what a configuration file says.
    pub fn with_file(mut self, path: PathBuf) -> Result<Settings, SettingsError> {
        let text = std::fs::read_to_string(&path).map_err(|source| SettingsError::Read { path: path.clone(), source })?;
        let file: File = toml::from_str(&text).map_err(|source| SettingsError::Form { path, source: Box::new(source) })?;
        self.public_url = file.public_url.or(self.public_url);
        self.fetch_tries = file.fetch_tries.unwrap_or(self.fetch_tries);
        self.log_limit = file.log_limit_mib.map_or(self.log_limit, |mib| mib.saturating_mul(1024 * 1024));
        self.key_file = file.key_file.or(self.key_file);
        self.hosts = file.hosts;
        self.behind_proxy = file.behind_proxy;
        self.tls = file.tls;
        self.local_git = file.git.local;
        self.near_git = file.git.near;
        self.sign_in = file.sign_in;
        self.mail = file.mail.map(mail).transpose()?;
        self.near_notices = file.notices.near;
        self.ages = file.ages.checked().map_err(SettingsError::Ages)?;
        self.pools = pools(file.pool)?;
        self.pool_programs = file.pool_programs;
        let wrong = |table: &str| {
            let table = table.to_owned();
            move |why| SettingsError::Collector { table, why }
        };
        self.traces = file.traces.map(TracesFile::checked).transpose().map_err(wrong("traces"))?;
        for (name, ship) in file.ship {
            let table = format!("ship.{name}");
            if !crate::label::is_label(&name) {
                return Err(wrong(&table)("its name is to be letters, digits and `-`".into()));
            }
            self.ships.insert(name, ship.checked().map_err(wrong(&table))?);
        }
        self.backup = file.backup.map(|backup| backup.checked(&self.data)).transpose()?;
        for word in file.open {
            match word.as_str() {
                "metrics" => self.open.metrics = true,
                "description" => self.open.description = true,
                _ => return Err(SettingsError::Open(word)),
            }
        }
        if let Some(store) = file.store {
            self.store_limit = store.limit_mib.map(|mib| mib.saturating_mul(1024 * 1024));
            self.store_key_file = store.key_file.clone();
            self.objects = objects(store)?;
        }
        for (key, value, place) in [
            ("lease", file.lease, &mut self.lease),
            ("beat", file.beat, &mut self.beat),
            ("drain", file.drain, &mut self.drain),
            ("retry_pause", file.retry_pause, &mut self.retry_pause),
            ("hook_grace", file.hook_grace, &mut self.hook_grace),
            ("keep", file.keep, &mut self.keep),
            ("pause", file.notices.pause, &mut self.notice_pause),
        ] {
            if let Some(value) = value {
                *place = humantime::parse_duration(&value).map_err(|_| SettingsError::Duration { key, value })?;
            }
        }
        Ok(self)
    }
}

fn pools(pools: BTreeMap<String, PoolSettings>) -> Result<BTreeMap<String, PoolSettings>, SettingsError> {
    for (name, pool) in &pools {
        let wrong = |why: String| SettingsError::Pool { name: name.clone(), why };
        if !crate::pools::is_pool_name(name) {
            return Err(wrong("its name is to be lower-case letters, digits and `-`, beginning with a letter, at most 32".into()));
        }
        crate::pools::check(pool).map_err(|error| wrong(error.to_string()))?;
    }
    Ok(pools)
}

fn mail(file: MailFile) -> Result<MailSettings, SettingsError> {
    let place = file.server.rsplit_once(':').and_then(|(host, port)| Some((host.to_owned(), port.parse().ok()?)));
    let (host, port): (String, u16) =
        place.ok_or_else(|| SettingsError::Mail(format!("`server` is `{}`; write HOST:PORT, such as mail.example:587", file.server)))?;
    let here = host == "localhost" || host.parse::<IpAddr>().is_ok_and(|address| address.is_loopback());
    if file.tls == MailTls::None && !here {
        return Err(SettingsError::Mail("`tls = \"none\"` is for a server on this machine only; write \"starttls\" or \"tls\"".into()));
    }
    let read = |path: PathBuf| std::fs::read_to_string(&path).map_err(|source| SettingsError::Read { path, source });
    let password = file.password_file.map(read).transpose()?.map(|text| text.trim().to_owned());
    if file.user.is_some() != password.is_some() {
        return Err(SettingsError::Mail("`user` and `password_file` belong together".into()));
    }
    Ok(MailSettings { host, port, tls: file.tls, from: file.from, user: file.user, password, ca_file: file.ca_file })
}

fn objects(store: StoreFile) -> Result<Option<Objects>, SettingsError> {
    let Some(endpoint) = store.endpoint else {
        return if store.direct.is_some() {
            Err(SettingsError::Direct("needs `endpoint`: only object storage can be reached so"))
        } else {
            Ok(None)
        };
    };
    if let Some(direct) = &store.direct {
        if store.key_file.is_some() {
            return Err(SettingsError::Direct("and `key_file` exclude each other: what is sealed only the service can open"));
        }
        let url = direct.parse::<reqwest::Url>();
        if !url.is_ok_and(|url| matches!(url.scheme(), "http" | "https") && url.username().is_empty() && url.query().is_none()) {
            return Err(SettingsError::Direct("is to be an address such as \"https://objects.saltmarsh.example\""));
        }
    }
    let place = StorageFile { bucket: store.bucket, region: store.region, key_id: store.key_id, secret_file: store.secret_file };
    Ok(Some(Objects { direct: store.direct, ..place.at("store", endpoint)? }))
}

/// Keys of S3-compatible storage, in whichever table.
struct StorageFile {
    bucket: Option<String>,
    region: Option<String>,
    key_id: Option<String>,
    secret_file: Option<PathBuf>,
}

impl StorageFile {
    fn at(self, table: &'static str, endpoint: String) -> Result<Objects, SettingsError> {
        let missing = |key| SettingsError::Store { table, key };
        let secret_file = self.secret_file.ok_or(missing("secret_file"))?;
        let secret = std::fs::read_to_string(&secret_file).map_err(|source| SettingsError::Read { path: secret_file, source })?;
        Ok(Objects {
            endpoint,
            bucket: self.bucket.ok_or(missing("bucket"))?,
            region: self.region.unwrap_or_else(|| "us-east-1".into()),
            key_id: self.key_id.ok_or(missing("key_id"))?,
            secret: secret.trim().to_owned(),
            direct: None,
        })
    }
}

impl BackupFile {
    fn checked(self, data: &Path) -> Result<BackupSettings, SettingsError> {
        let place = match (self.to, self.endpoint) {
            (Some(folder), None) => {
                let whole = |path: &Path| std::path::absolute(path).unwrap_or_else(|_| path.to_owned());
                let (folder, data) = (whole(&folder), whole(data));
                if folder.starts_with(&data) || data.starts_with(&folder) {
                    let why =
                        format!("names {}, and the data folder is {}: neither may lie in the other", folder.display(), data.display());
                    return Err(SettingsError::Backup(why));
                }
                Place::Local(folder)
            }
            (None, Some(endpoint)) => {
                let place = StorageFile { bucket: self.bucket, region: self.region, key_id: self.key_id, secret_file: self.secret_file };
                Place::Objects(place.at("backup", endpoint)?)
            }
            _ => return Err(SettingsError::Backup("is to name one place: `to`, a folder, or `endpoint` of S3-compatible storage".into())),
        };
        let duration = |key: &'static str, text: Option<String>, otherwise: u64| {
            let Some(text) = text else { return Ok(Duration::from_secs(otherwise)) };
            humantime::parse_duration(&text).map_err(|_| SettingsError::Duration { key, value: text })
        };
        let (every, anew) = (duration("every", self.every, 10)?, duration("anew", self.anew, 24 * 3600)?);
        if every < Duration::from_millis(100) || anew < every {
            return Err(SettingsError::Backup("is to have `every` of 100ms or more, and `anew` no shorter than that".into()));
        }
        Ok(BackupSettings { place, every, anew, keep: self.keep.unwrap_or(7).max(1), keys: self.keys })
    }
}

impl Settings {
    /// Files with keys, each with the name that it has in a backup: that of the data folder.
    pub fn keys(&self) -> Vec<(PathBuf, String)> {
        let secrets = self.key_file.clone().unwrap_or_else(|| self.data.join("secrets.key"));
        let store = self.store_key_file.clone().map(|path| (path, "store.key".to_owned()));
        [(secrets, "secrets.key".to_owned())].into_iter().chain(store).collect()
    }
}
