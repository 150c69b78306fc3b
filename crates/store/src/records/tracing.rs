//! Where artifacts come from and where they went: signed statements, the files in artifacts, what was published, and what was
//! made of what.

use super::error::json;
use super::{Records, StoreError, Tx};
use ordotaxis_core::report::Component;
use sha2::{Digest, Sha256};
use std::collections::BTreeSet;

/// A bill's document goes that was made before ?1, and whose run has no artifacts any more.
pub(super) const OLD_BILLS: &str =
    "document IS NOT NULL AND made_at < ?1 AND NOT EXISTS (SELECT 1 FROM artifacts WHERE artifacts.run_id = bills.run_id)";

/// Statements are text that says much twice.
const LEVEL: i32 = 6;

/// A statement of an artifact and its signature.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct StatementRow {
    pub run_id: i64,
    pub job: i64,
    pub name: String,
    /// Of the artifact: `sha256:…`
    pub digest: String,
    /// The statement's bytes, as they were signed.
    pub payload: Vec<u8>,
    pub key_id: String,
    pub signature: Vec<u8>,
}

/// A file in an artifact.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TracedFile {
    pub sha256: [u8; 32],
    pub path: String,
}

/// An artifact that a job made, whether it is still there or not.
#[derive(Debug, Clone, PartialEq, Eq, sqlx::FromRow)]
pub struct MadeRow {
    pub run_id: i64,
    pub job: i64,
    pub name: String,
    pub digest: String,
    /// A file in it, where that was looked for.
    pub path: Option<String>,
    /// It is still in the store.
    pub kept: bool,
    pub signed: bool,
}

/// A time for which something was well in an environment.
#[derive(Debug, Clone, PartialEq, Eq, sqlx::FromRow)]
pub struct StayRow {
    pub digest: String,
    pub project: String,
    pub environment: String,
    /// In the environment's history.
    pub number: i64,
    pub run: String,
    pub job_id: String,
    pub commit_id: String,
    pub since: i64,
    /// None: it is there.
    pub until: Option<i64>,
}

/// A component, and a run whose bill names it.
#[derive(Debug, Clone, PartialEq, Eq, sqlx::FromRow)]
pub struct ComponentRow {
    pub project: String,
    pub run: i64,
    pub run_id: i64,
    pub job: i64,
    pub file: String,
    pub form: String,
    pub name: String,
    pub version: String,
    pub purl: Option<String>,
    /// Where what the run made is now; none where that was not asked.
    pub environment: Option<String>,
}

/// A bill of materials, as its job wrote it.
#[derive(Debug, Clone)]
pub struct NewBill {
    pub file: String,
    pub form: &'static str,
    pub components: Vec<Component>,
    pub document: Vec<u8>,
}

fn packed(bytes: &[u8]) -> Result<Vec<u8>, StoreError> {
    zstd::bulk::compress(bytes, LEVEL).map_err(|_| StoreError::Value("what is to be packed"))
}

fn unpacked(bytes: &[u8], what: &'static str) -> Result<Vec<u8>, StoreError> {
    zstd::stream::decode_all(bytes).map_err(|_| StoreError::Value(what))
}

impl Records {
    /// What is said of an artifact.
    pub async fn statement(&self, run_id: i64, job: i64, name: &str) -> Result<Option<StatementRow>, StoreError> {
        let sql = "SELECT digest, payload, key_id, signature FROM statements WHERE run_id = ? AND job = ? AND name = ?";
        let row: Option<(String, Vec<u8>, String, Vec<u8>)> =
            sqlx::query_as(sql).bind(run_id).bind(job).bind(name).fetch_optional(&self.reads).await?;
        let whole = |(digest, payload, key_id, signature): (String, Vec<u8>, String, Vec<u8>)| {
            let payload = unpacked(&payload, "statements.payload")?;
            Ok(StatementRow { run_id, job, name: name.to_owned(), digest, payload, key_id, signature })
        };
        row.map(whole).transpose()
    }

    /// Artifacts with one of these digests, the newest first.
    pub async fn made_by_digest(&self, digests: &[String], limit: i64) -> Result<Vec<MadeRow>, StoreError> {
        // What was carried over is found where it was made.
        let sql = "SELECT run_id, job, name, digest, max(kept) AS kept, max(signed) AS signed, NULL AS path FROM (
                     SELECT run_id, job, name, digest, 1 AS kept, 0 AS signed FROM artifacts WHERE digest IN (SELECT value FROM json_each(?1))
                     UNION ALL SELECT run_id, job, name, digest, 0, 1 FROM statements WHERE digest IN (SELECT value FROM json_each(?1))) AS made
                   WHERE NOT EXISTS (SELECT 1 FROM jobs WHERE jobs.run_id = made.run_id AND jobs.number = made.job AND jobs.state = 'reused')
                   GROUP BY run_id, job, name ORDER BY run_id DESC, job, name LIMIT ?2";
        Ok(sqlx::query_as(sql).bind(json(digests)?).bind(limit).fetch_all(&self.reads).await?)
    }

    /// What these runs made, the newest run first.
    pub async fn made_by_runs(&self, runs: &[i64], limit: i64) -> Result<Vec<MadeRow>, StoreError> {
        let runs: BTreeSet<i64> = runs.iter().copied().collect();
        let mut names: Vec<(i64, i64, String)> = Vec::new();
        for run in runs.into_iter().rev() {
            let left = limit - i64::try_from(names.len()).unwrap_or(i64::MAX);
            if left <= 0 {
                break;
            }
            // Two indexes, read side by side in their order: of a run with very many artifacts only the first are read.
            let sql = "SELECT job, name FROM artifacts WHERE run_id = ?1 UNION SELECT job, name FROM statements WHERE run_id = ?1
                       ORDER BY job, name LIMIT ?2";
            let of: Vec<(i64, String)> = sqlx::query_as(sql).bind(run).bind(left).fetch_all(&self.reads).await?;
            names.extend(of.into_iter().map(|(job, name)| (run, job, name)));
        }
        self.made_as(&names).await
    }

    /// Artifacts by run, job and name, the newest run first; those that are not known are left out.
    pub async fn made_as(&self, names: &[(i64, i64, String)]) -> Result<Vec<MadeRow>, StoreError> {
        // What is said of what was there before a job was done again is not said of what is there.
        let sql = "SELECT wanted.run_id, wanted.job, wanted.name, coalesce(there.digest, said.digest) AS digest, NULL AS path,
                     there.digest IS NOT NULL AS kept, said.digest IS coalesce(there.digest, said.digest) AS signed
                   FROM (SELECT DISTINCT value ->> 0 AS run_id, value ->> 1 AS job, value ->> 2 AS name FROM json_each(?)) AS wanted
                   LEFT JOIN artifacts AS there ON there.run_id = wanted.run_id AND there.job = wanted.job AND there.name = wanted.name
                   LEFT JOIN statements AS said ON said.run_id = wanted.run_id AND said.job = wanted.job AND said.name = wanted.name
                   WHERE coalesce(there.digest, said.digest) IS NOT NULL ORDER BY wanted.run_id DESC, wanted.job, wanted.name";
        Ok(sqlx::query_as(sql).bind(json(names)?).fetch_all(&self.reads).await?)
    }

    /// Artifacts in which a file with this digest lies, the newest first.
    pub async fn made_with_file(&self, sha256: &[u8; 32], limit: i64) -> Result<Vec<MadeRow>, StoreError> {
        let sql = "SELECT files.run_id, files.job, files.name, statements.digest, path, 1 AS signed,
                     EXISTS (SELECT 1 FROM artifacts WHERE artifacts.run_id = files.run_id AND artifacts.job = files.job
                       AND artifacts.name = files.name) AS kept
                   FROM traced_files AS files JOIN statements
                     ON statements.run_id = files.run_id AND statements.job = files.job AND statements.name = files.name
                   WHERE files.sha256 = ? ORDER BY files.run_id DESC, files.job, files.name, path LIMIT ?";
        Ok(sqlx::query_as(sql).bind(&sha256[..]).bind(limit).fetch_all(&self.reads).await?)
    }

    /// Artifacts that were published under this digest: run, job, name, the address.
    pub async fn published_as(&self, digest: &str) -> Result<Vec<(i64, i64, String, String)>, StoreError> {
        let sql = "SELECT run_id, job, name, address FROM published WHERE digest = ? ORDER BY run_id DESC";
        Ok(sqlx::query_as(sql).bind(digest).fetch_all(&self.reads).await?)
    }

    /// What was published of these runs: run, job, name, address, digest.
    pub async fn published_by(&self, runs: &[i64]) -> Result<Vec<(i64, i64, String, String, String)>, StoreError> {
        let sql = "SELECT run_id, job, name, address, digest FROM published WHERE run_id IN (SELECT value FROM json_each(?))";
        Ok(sqlx::query_as(sql).bind(json(runs)?).fetch_all(&self.reads).await?)
    }

    /// Runs of a commit, which may be given by its beginning; the newest first.
    pub async fn runs_of_commit(&self, commit: &str, limit: i64) -> Result<Vec<i64>, StoreError> {
        let sql = "SELECT id FROM runs WHERE commit_id >= ?1 AND commit_id < ?1 || 'g' ORDER BY id DESC LIMIT ?2";
        Ok(sqlx::query_scalar(sql).bind(commit).bind(limit).fetch_all(&self.reads).await?)
    }

    /// Where things were well, by their digests (of what took no artifacts its commit), the newest first.
    pub async fn stays_of(&self, digests: &[String]) -> Result<Vec<StayRow>, StoreError> {
        let sql = "SELECT deployed.digest, projects.name AS project, environments.name AS environment, deployments.number, run, job_id,
                     commit_id, ended_at AS since, left_at AS until
                   FROM json_each(?) AS wanted CROSS JOIN deployed ON deployed.digest = wanted.value
                   JOIN deployments ON deployments.id = deployment_id JOIN environments ON environments.id = environment_id
                   JOIN projects ON projects.id = environments.project_id
                   WHERE outcome = 'well' AND ended_at IS NOT NULL ORDER BY ended_at DESC, environments.name LIMIT 1000";
        Ok(sqlx::query_as(sql).bind(json(digests)?).fetch_all(&self.reads).await?)
    }

    /// What is in environments now and made of a component: the digests there lead to runs, and those to their bills.
    pub async fn components_there(&self, name: &str, limit: i64) -> Result<Vec<ComponentRow>, StoreError> {
        // Of several runs that made the very same, the newest stands for all.
        let sql = "SELECT projects.name AS project, runs.number AS run, max(runs.id) AS run_id, bills.job, bills.file, bills.form,
                     components.name, components.version, purl, environments.name AS environment
                   FROM deployments JOIN deployed ON deployed.deployment_id = deployments.id
                   JOIN environments ON environments.id = environment_id
                   JOIN statements ON statements.digest = deployed.digest JOIN runs ON runs.id = statements.run_id
                   JOIN projects ON projects.id = runs.project_id AND projects.id = environments.project_id
                   JOIN bills ON bills.run_id = runs.id JOIN components ON components.parts = bills.parts AND components.name = ?
                   WHERE outcome = 'well' AND left_at IS NULL GROUP BY environments.id, components.name, components.version, purl
                   ORDER BY projects.name, environments.name, components.version LIMIT ?";
        Ok(sqlx::query_as(sql).bind(name).bind(limit).fetch_all(&self.reads).await?)
    }

    /// Runs whose bills name a component, the newest first.
    pub async fn components_made(&self, name: &str, limit: i64) -> Result<Vec<ComponentRow>, StoreError> {
        let sql = "SELECT projects.name AS project, runs.number AS run, runs.id AS run_id, bills.job, bills.file, bills.form,
                     components.name, components.version, purl, NULL AS environment
                   FROM components JOIN bills ON bills.parts = components.parts JOIN runs ON runs.id = bills.run_id
                   JOIN projects ON projects.id = runs.project_id
                   WHERE components.name = ? ORDER BY runs.id DESC, bills.job, bills.file LIMIT ?";
        Ok(sqlx::query_as(sql).bind(name).bind(limit).fetch_all(&self.reads).await?)
    }

    /// Names of components that begin or end like this one, for a hint.
    pub async fn component_names(&self, like: &str, limit: i64) -> Result<Vec<String>, StoreError> {
        let sql = "SELECT DISTINCT name FROM components WHERE instr(lower(name), lower(?)) > 0 ORDER BY length(name), name LIMIT ?";
        Ok(sqlx::query_scalar(sql).bind(like).bind(limit).fetch_all(&self.reads).await?)
    }

    /// The bills of a run: job, file, form, how many components, whether the document is still there.
    pub async fn bills(&self, run_id: i64) -> Result<Vec<(i64, String, String, i64, bool)>, StoreError> {
        let sql = "SELECT job, file, form, (SELECT count(*) FROM components WHERE components.parts = bills.parts), document IS NOT NULL
                   FROM bills WHERE run_id = ? ORDER BY job, file";
        Ok(sqlx::query_as(sql).bind(run_id).fetch_all(&self.reads).await?)
    }

    /// A bill as its job wrote it. None: there is none, or it is not kept any more.
    pub async fn bill(&self, run_id: i64, job: i64, file: &str) -> Result<Option<Vec<u8>>, StoreError> {
        let sql = "SELECT document FROM bills WHERE run_id = ? AND job = ? AND file = ?";
        let found: Option<Option<Vec<u8>>> = sqlx::query_scalar(sql).bind(run_id).bind(job).bind(file).fetch_optional(&self.reads).await?;
        found.flatten().map(|bytes| unpacked(&bytes, "bills.document")).transpose()
    }
}

impl Tx {
    /// Keeps what is said of an artifact, and the files in it. What was said of one that it takes the place of is dropped.
    pub async fn set_statement(&mut self, new: &StatementRow, files: &[TracedFile]) -> Result<(), StoreError> {
        let sql = "INSERT OR REPLACE INTO statements (run_id, job, name, digest, payload, key_id, signature, made_at)
                   VALUES (?, ?, ?, ?, ?, ?, ?, ?)";
        let query = sqlx::query(sql).bind(new.run_id).bind(new.job).bind(&new.name).bind(&new.digest).bind(packed(&new.payload)?);
        query.bind(&new.key_id).bind(&new.signature).bind(self.now).execute(&mut *self.on).await?;
        let sql = "DELETE FROM traced_files WHERE run_id = ? AND job = ? AND name = ?";
        sqlx::query(sql).bind(new.run_id).bind(new.job).bind(&new.name).execute(&mut *self.on).await?;
        let hex = |file: &TracedFile| (file.sha256.iter().map(|byte| format!("{byte:02x}")).collect::<String>(), file.path.clone());
        let rows: Vec<(String, String)> = files.iter().map(hex).collect();
        let sql = "INSERT OR IGNORE INTO traced_files (sha256, run_id, job, name, path)
                   SELECT unhex(value ->> 0), ?1, ?2, ?3, value ->> 1 FROM json_each(?4)";
        sqlx::query(sql).bind(new.run_id).bind(new.job).bind(&new.name).bind(json(&rows)?).execute(&mut *self.on).await?;
        Ok(())
    }

    /// Notes that a job published an artifact: with the digest, and the address.
    pub async fn set_published(&mut self, run_id: i64, job: i64, name: &str, digest: &str, address: &str) -> Result<(), StoreError> {
        let sql = "INSERT OR REPLACE INTO published (digest, run_id, job, name, address) VALUES (?, ?, ?, ?, ?)";
        let query = sqlx::query(sql).bind(digest).bind(run_id).bind(job).bind(name).bind(address);
        query.execute(&mut *self.on).await?;
        Ok(())
    }

    /// Keeps a job's bills in place of those of its earlier attempts.
    pub async fn set_bills(&mut self, run_id: i64, job: i64, bills: &[NewBill]) -> Result<(), StoreError> {
        sqlx::query("DELETE FROM bills WHERE run_id = ? AND job = ?").bind(run_id).bind(job).execute(&mut *self.on).await?;
        for bill in bills {
            let list = json(&bill.components)?;
            let parts: String = Sha256::digest(&list).iter().map(|byte| format!("{byte:02x}")).collect();
            let sql = "INSERT OR REPLACE INTO bills (run_id, job, file, form, parts, document, made_at) VALUES (?, ?, ?, ?, ?, ?, ?)";
            let query = sqlx::query(sql).bind(run_id).bind(job).bind(&bill.file).bind(bill.form).bind(&parts);
            query.bind(packed(&bill.document)?).bind(self.now).execute(&mut *self.on).await?;
            let sql = "INSERT OR IGNORE INTO components (name, parts, version, purl)
                       SELECT value ->> 'name', ?1, value ->> 'version', value ->> 'purl' FROM json_each(?2)
                       WHERE NOT EXISTS (SELECT 1 FROM components WHERE components.parts = ?1)";
            sqlx::query(sql).bind(&parts).bind(list).execute(&mut *self.on).await?;
        }
        Ok(())
    }

    /// Of runs whose artifacts are gone, bills from before a moment are not kept any more; their components stay known.
    pub async fn drop_documents(&mut self, made_before: i64) -> Result<u64, StoreError> {
        let sql = format!("UPDATE bills SET document = NULL WHERE {OLD_BILLS}");
        Ok(sqlx::query(sqlx::AssertSqlSafe(sql)).bind(made_before).execute(&mut *self.on).await?.rows_affected())
    }
}
