//! Artifacts that go elsewhere: to a registry that speaks the OCI distribution specification, or to any address (see
//! `upload`). What was published is named by its digest, which a fact can take.

use crate::archive::chosen;
use crate::beneath::Beneath;
use crate::broken::{Broken, failed};
use crate::job::Job;
use crate::outgoing::{Layer, Login, chain};
use crate::rehearses::Rehearses;
use crate::step::Halt;
use crate::upload;
use crate::workspace::Workspace;
use oci_client::client::{ClientConfig, ClientProtocol, Config, ImageLayer};
use oci_client::manifest::OciImageManifest;
use oci_client::secrets::RegistryAuth;
use oci_client::{Client, Reference};
use ordotaxis_wire::run::PhaseKind;
use ordotaxis_wire::runner::{AttemptReports, LeasePublish};
use std::collections::BTreeMap;
use std::path::PathBuf;
use std::time::Duration;

/// A layer of files, as OCI's image specification calls it.
const LAYER: &str = "application/vnd.oci.image.layer.v1.tar+gzip";
const IMAGE_CONFIG: &str = "application/vnd.oci.image.config.v1+json";
/// What an artifact that is no image has for a configuration.
const EMPTY: &str = "application/vnd.oci.empty.v1+json";
/// What our artifacts are.
const ARTIFACT: &str = "application/vnd.ordotaxis.artifact.v1";
/// How long one publication may take.
const PATIENCE: Duration = Duration::from_secs(30 * 60);
impl Job<'_> {
    /// Publishes what the job says, in order; the first that cannot be ends it.
    pub(crate) async fn publish_all(&mut self, workspace: &Workspace) -> Result<(), Broken> {
        for publish in self.lease.publish.clone() {
            self.check_halt()?;
            self.begin(&publish.to, PhaseKind::Publish).await;
            let done = self.publish(workspace, &publish).await;
            self.end(done.is_err(), None);
            done?;
        }
        Ok(())
    }

    async fn publish(&mut self, workspace: &Workspace, publish: &LeasePublish) -> Result<(), Broken> {
        let wrong = |why: String| failed(format!("{} could not be published to {}: {why}", publish.artifact, publish.to));
        let rehearses = self.shared.rehearses != Rehearses::No;
        let login = match &publish.with {
            // Nothing is sent, so nothing is asked for.
            _ if rehearses => None,
            None => None,
            Some(with) => match &with.password {
                Some(password) => Some((with.user.clone(), password.clone())),
                None => {
                    return Err(wrong(with.why.clone().unwrap_or_else(|| format!("connection {} was not given to this job", with.name))));
                }
            },
        };
        let globs = self.lease.gives.iter().find(|give| give.artifact == publish.artifact).map(|give| give.paths.clone());
        let root = workspace.folders.job().map_err(|error| wrong(error.to_string()))?;
        let globs = globs.unwrap_or_default();
        let paths = {
            let root = root.clone();
            tokio::task::spawn_blocking(move || chosen(&root, &globs, false)).await.map_err(|error| wrong(error.to_string()))??
        };
        if rehearses {
            return self.would_publish(publish, paths.len()).await;
        }
        let mut halt = self.halt.clone();
        let sent = async {
            match (publish.to.strip_prefix("oci://"), &publish.upload) {
                (Some(to), _) => to_registry(to, publish, root, paths, login).await,
                (None, Some(upload)) => upload::by_form(&publish.to, upload, &root, paths, login).await,
                (None, None) => upload::by_put(&publish.to, root, paths, login).await,
            }
        };
        let digest = tokio::select! {
            sent = tokio::time::timeout(PATIENCE, sent) => match sent {
                Ok(sent) => sent.map_err(wrong)?,
                Err(_) => return Err(wrong("it took more than 30 minutes".into())),
            },
            _ = halt.wait_for(|halt| *halt != Halt::No) => {
                self.check_halt()?;
                return Err(Broken::Stopped);
            }
        };
        self.shipper.log.say(&format!("published {} to {}: {digest}", publish.artifact, publish.to)).await;
        self.leave_fact(publish, digest).await
    }

    /// In a rehearsal nothing leaves the machine: it is said what would, and a fact has a word in place of a digest.
    async fn would_publish(&mut self, publish: &LeasePublish, files: usize) -> Result<(), Broken> {
        let with = publish.with.as_ref().map(|with| format!(", with connection {}", with.name)).unwrap_or_default();
        let files = ordotaxis_core::language::counted(files, "file");
        let said = format!(
            "would publish {} ({files}) to {} as {}{with}; nothing is sent in a rehearsal",
            publish.artifact,
            publish.to,
            if publish.upload.is_some() { "a form" } else { &publish.form }
        );
        self.shipper.log.say(&said).await;
        self.leave_fact(publish, "rehearsed".to_owned()).await
    }

    async fn leave_fact(&self, publish: &LeasePublish, digest: String) -> Result<(), Broken> {
        let Some(fact) = &publish.fact else { return Ok(()) };
        let left = AttemptReports { facts: BTreeMap::from([(fact.clone(), digest)]), ..AttemptReports::default() };
        let (client, attempt) = (&self.shared.client, self.lease.attempt);
        crate::client::insist(&self.shared.abort, || client.left(attempt, &left)).await?;
        Ok(())
    }
}

/// Gives the manifest's digest.
async fn to_registry(to: &str, publish: &LeasePublish, root: Beneath, paths: Vec<PathBuf>, login: Login) -> Result<String, String> {
    let reference: Reference = to.parse().map_err(|error| format!("that names no place in a registry: {error}"))?;
    let image = publish.form == "image";
    let packed = tokio::task::spawn_blocking(move || Layer::pack(&root, &paths)).await.map_err(|error| error.to_string())??;
    let layer = ImageLayer::new(packed.bytes, LAYER.to_owned(), None);
    let config = if image {
        let rootfs = serde_json::json!({ "type": "layers", "diff_ids": [packed.plain] });
        let arch = if std::env::consts::ARCH == "x86_64" { "amd64" } else { std::env::consts::ARCH };
        let config = serde_json::json!({ "architecture": arch, "os": "linux", "config": {}, "rootfs": rootfs });
        Config::new(config.to_string().into_bytes(), IMAGE_CONFIG.to_owned(), None)
    } else {
        Config::new(b"{}".to_vec(), EMPTY.to_owned(), None)
    };
    let layers = [layer];
    let mut manifest = OciImageManifest::build(&layers, &config, None);
    manifest.media_type = Some("application/vnd.oci.image.manifest.v1+json".to_owned());
    manifest.artifact_type = (!image).then(|| ARTIFACT.to_owned());
    let auth = login.map_or(RegistryAuth::Anonymous, |(user, password)| RegistryAuth::Basic(user, password));
    let client = Client::new(ClientConfig { protocol: protocol(&reference), ..ClientConfig::default() });
    let plainly = |error: oci_client::errors::OciDistributionError| chain(&error);
    client.push(&reference, &layers, config, &auth, Some(manifest)).await.map_err(plainly)?;
    client.fetch_manifest_digest(&reference, &auth).await.map_err(plainly)
}

/// A registry on this machine speaks plain HTTP, as registries' own tools take it.
fn protocol(reference: &Reference) -> ClientProtocol {
    let registry = reference.resolve_registry();
    let host = registry.rsplit_once(':').map_or(registry, |(host, _)| host);
    if matches!(host, "localhost" | "127.0.0.1" | "[::1]") { ClientProtocol::Http } else { ClientProtocol::Https }
}
