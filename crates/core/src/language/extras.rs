//! What a job asks of its runner beyond running steps. Read, checked and planned; the table in `keys` says what of it
//! this version does. The same values are in the file and in the plan.

use super::capacity::Capacity;
use super::place::At;
use super::rollout::Rollout;
use super::step::Step;
use crate::template::Template;
use indexmap::IndexMap;
use serde::{Deserialize, Deserializer, Serialize, Serializer};

/// Keys of a job beyond its steps, in the same form in the file and in the plan. Empty values are not stored.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub struct Extras {
    #[serde(skip_serializing_if = "IndexMap::is_empty")]
    pub tools: IndexMap<String, Placed>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub image: Option<Placed>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub network: Option<bool>,
    /// What a runner must have free for it.
    #[serde(skip_serializing_if = "Capacity::is_none")]
    pub capacity: Capacity,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub facts: Vec<Fact>,
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub by_hand: bool,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub secrets: Vec<String>,
    /// Connections whose address, user and password are variables of its steps.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub connections: Vec<String>,
    /// What the job's own token may be used for: `start:PROJECT`, `note`.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub allows: Vec<String>,
    /// Variable → audience of a signed token that says who the job is.
    #[serde(skip_serializing_if = "IndexMap::is_empty")]
    pub identity: IndexMap<String, String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub deploys: Option<Placed>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub closes: Option<Placed>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub rollout: Option<Rollout>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub turn: Option<Placed>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub releases: Option<Releases>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub split: Option<Split>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub retry: Option<Retry>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub cache: Vec<Cache>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub reuse: Option<Vec<String>>,
    /// Kind of report → globs.
    #[serde(skip_serializing_if = "IndexMap::is_empty")]
    pub reports: IndexMap<String, Vec<String>>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub publish: Vec<Publish>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub beside: Vec<Helper>,
    /// `passed`, `failed`, `always` → steps.
    #[serde(skip_serializing_if = "IndexMap::is_empty")]
    pub afterwards: IndexMap<String, Vec<Step>>,
    /// Steps that are run when the machine is about to be taken away.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub checkpoint: Vec<Step>,
}

/// A text with placeholders and where it stands. Stored as it would be written; a plan knows no places.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Placed(pub At<Template>);

impl Serialize for Placed {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.serialize_str(&self.0.value.source())
    }
}

impl<'de> Deserialize<'de> for Placed {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let text = String::deserialize(deserializer)?;
        let template = Template::parse(&text).map_err(|_| serde::de::Error::custom("not a text with placeholders"))?;
        Ok(Placed(At { value: template, span: 0..0 }))
    }
}

/// A value that a job leaves. Written as its name alone where it is not a number.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(from = "FactForm", into = "FactForm")]
pub struct Fact {
    pub name: String,
    pub number: bool,
}

#[derive(Serialize, Deserialize)]
#[serde(untagged)]
enum FactForm {
    Name(String),
    Table { name: String, number: bool },
}

impl From<FactForm> for Fact {
    fn from(form: FactForm) -> Fact {
        match form {
            FactForm::Name(name) => Fact { name, number: false },
            FactForm::Table { name, number } => Fact { name, number },
        }
    }
}

impl From<Fact> for FactForm {
    fn from(Fact { name, number }: Fact) -> FactForm {
        if number { FactForm::Table { name, number } } else { FactForm::Name(name) }
    }
}

/// An artifact that is sent elsewhere.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Publish {
    pub artifact: String,
    pub to: Placed,
    /// `artifact` or `image`
    #[serde(rename = "as")]
    pub form: String,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub with: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub fact: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub upload: Option<Upload>,
}

impl Publish {
    fn templates(&mut self) -> impl Iterator<Item = &mut Placed> {
        let fields = self.upload.as_mut().map(|upload| upload.fields.values_mut());
        [&mut self.to].into_iter().chain(fields.into_iter().flatten())
    }
}

/// `form` of a publication: each file is sent by HTTP POST, as RFC 7578 (multipart/form-data) says it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Upload {
    pub fields: IndexMap<String, Placed>,
    /// The field that carries the file.
    pub file: String,
    /// The field that gets the file's SHA-256.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub digest: Option<String>,
}

/// What variables of a connection begin with: its name in capital letters, with `_` for what no variable may have.
///
/// ```
/// use ordotaxis_core::language::connection_stem;
/// assert_eq!(connection_stem("npm-index"), "NPM_INDEX");
/// ```
pub fn connection_stem(name: &str) -> String {
    let fit = |c: char| if c.is_ascii_alphanumeric() { c.to_ascii_uppercase() } else { '_' };
    let stem: String = name.chars().map(fit).collect();
    if stem.starts_with(|c: char| c.is_ascii_digit()) { format!("_{stem}") } else { stem }
}

/// `releases`: what is made known once the job has passed. `{version}` in a text is the version.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Releases {
    pub version: Placed,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub notes: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub title: Option<String>,
    /// `STAGE.NAME/ARTIFACT`
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub assets: Vec<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub tag: Option<String>,
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub draft: bool,
}

/// `split`: the job runs in copies that share its tests out.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Split {
    pub into: u32,
    pub by: String,
}

/// `retry`: how often, and after which kinds of end, the job is tried again.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Retry {
    pub times: u32,
    pub on: Vec<String>,
}

/// `cache`: paths that are kept from one run to the next under a key.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Cache {
    pub paths: Vec<Placed>,
    pub key: Placed,
    #[serde(rename = "else", default, skip_serializing_if = "Vec::is_empty")]
    pub otherwise: Vec<Placed>,
    pub save: String,
}

/// `beside`: a process that runs while the steps do, such as a database.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Helper {
    pub name: String,
    pub run: String,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ready: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub within_ms: Option<u64>,
}

impl Extras {
    /// Every text with placeholders, to look at or to fill.
    pub fn templates(&mut self) -> impl Iterator<Item = &mut Placed> {
        let own = [&mut self.image, &mut self.deploys, &mut self.closes, &mut self.turn].into_iter().flatten();
        let caches = self.cache.iter_mut().flat_map(|cache| cache.paths.iter_mut().chain([&mut cache.key]).chain(&mut cache.otherwise));
        let version = self.releases.as_mut().map(|releases| &mut releases.version);
        let own = own.chain(version);
        own.chain(self.tools.values_mut()).chain(caches).chain(self.publish.iter_mut().flat_map(Publish::templates))
    }

    /// What `self` says, and where it is silent what `other` does.
    pub fn over(self, other: &Extras) -> Extras {
        let other = other.clone();
        let list = |own: Vec<String>, other: Vec<String>| if own.is_empty() { other } else { own };
        Extras {
            tools: if self.tools.is_empty() { other.tools } else { self.tools },
            image: self.image.or(other.image),
            network: self.network.or(other.network),
            capacity: self.capacity.over(other.capacity),
            facts: if self.facts.is_empty() { other.facts } else { self.facts },
            by_hand: self.by_hand || other.by_hand,
            secrets: list(self.secrets, other.secrets),
            connections: list(self.connections, other.connections),
            allows: list(self.allows, other.allows),
            identity: if self.identity.is_empty() { other.identity } else { self.identity },
            deploys: self.deploys.or(other.deploys),
            closes: self.closes.or(other.closes),
            rollout: self.rollout.or(other.rollout),
            turn: self.turn.or(other.turn),
            releases: self.releases.or(other.releases),
            split: self.split.or(other.split),
            retry: self.retry.or(other.retry),
            cache: if self.cache.is_empty() { other.cache } else { self.cache },
            reuse: self.reuse.or(other.reuse),
            publish: if self.publish.is_empty() { other.publish } else { self.publish },
            reports: if self.reports.is_empty() { other.reports } else { self.reports },
            beside: if self.beside.is_empty() { other.beside } else { self.beside },
            afterwards: if self.afterwards.is_empty() { other.afterwards } else { self.afterwards },
            checkpoint: if self.checkpoint.is_empty() { other.checkpoint } else { self.checkpoint },
        }
    }
}
