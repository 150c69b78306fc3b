//! A Slurm cluster of simulated nodes on loopback: real `munged`, `slurmctld`, and a `slurmd` a node, in a folder of their own. As
//! root: Slurm wants to change to whoever submitted a job.

use crate::port::free_port;
use crate::process::Process;
use std::path::{Path, PathBuf};
use std::process::Command;
use tempfile::TempDir;

/// What a node is.
#[derive(Debug, Clone, Copy)]
pub struct Node {
    pub name: &'static str,
    pub cores: u32,
    pub memory_mib: u32,
}

/// A cluster, all of which ends with it.
pub struct Slurm {
    nodes: Vec<(Node, Option<Process>)>,
    controller: Option<Process>,
    munge: Option<Process>,
    folder: TempDir,
}

impl Slurm {
    /// Whether one can be made here: its programs are there, and this is root.
    pub fn works() -> bool {
        let there = |name: &str| ["/usr/sbin", "/usr/bin"].iter().any(|folder| Path::new(folder).join(name).exists());
        ["munged", "slurmctld", "slurmd", "sbatch", "squeue", "scancel"].into_iter().all(there) && nix::unistd::geteuid().is_root()
    }

    /// Starts a cluster with one partition, `tide`.
    pub fn start(nodes: &[Node]) -> Slurm {
        let folder = tempfile::Builder::new().prefix("slurm").tempdir_in("/tmp").expect("a folder");
        let at = |name: &str| folder.path().join(name);
        for name in ["state", "munge"] {
            std::fs::create_dir(at(name)).expect("a folder");
        }
        std::fs::write(at("munge/key"), vec![7_u8; 1024]).expect("a key");
        for path in ["munge/key", "munge"] {
            use std::os::unix::fs::PermissionsExt;
            let mode = if path == "munge" { 0o755 } else { 0o400 };
            std::fs::set_permissions(at(path), std::fs::Permissions::from_mode(mode)).expect("a mode");
        }
        let socket = at("munge/socket");
        let mut munged = Command::new("/usr/sbin/munged");
        munged.arg("--foreground").arg("--force");
        for (option, file) in [("key-file", "key"), ("socket", "socket"), ("pid-file", "pid"), ("log-file", "log"), ("seed-file", "seed")] {
            munged.arg(format!("--{option}={}", at("munge").join(file).display()));
        }
        let munge = Process::start(&mut munged, folder.path(), "munged", "");
        wait_for(&socket);
        let ports: Vec<u16> = nodes.iter().map(|_| free_port()).collect();
        std::fs::write(at("slurm.conf"), configuration(folder.path(), nodes, &ports, free_port())).expect("a configuration");
        let mut slurm = Slurm { nodes: nodes.iter().map(|node| (*node, None)).collect(), controller: None, munge: Some(munge), folder };
        slurm.start_controller();
        for node in nodes {
            slurm.start_node(node.name);
        }
        slurm
    }

    /// The file that `SLURM_CONF` is to name.
    pub fn configuration(&self) -> PathBuf {
        self.folder.path().join("slurm.conf")
    }

    /// A command of this cluster.
    pub fn command(&self, program: &str) -> Command {
        let mut command = Command::new(program);
        command.env("SLURM_CONF", self.configuration());
        command
    }

    /// What a command of the cluster prints.
    pub fn said(&self, program: &str, arguments: &[&str]) -> String {
        let output = self.command(program).args(arguments).output().expect("the command starts");
        String::from_utf8_lossy(&output.stdout).into_owned() + &String::from_utf8_lossy(&output.stderr)
    }

    /// Starts the controller, for the first time or again.
    pub fn start_controller(&mut self) {
        let mut controller = self.command("/usr/sbin/slurmctld");
        self.controller = Some(Process::start(controller.arg("-D"), self.folder.path(), "slurmctld", ""));
    }

    /// The controller answers nobody any more; what runs goes on.
    pub fn stop_controller(&mut self) {
        if let Some(mut controller) = self.controller.take() {
            controller.signal(nix::sys::signal::Signal::SIGTERM);
            assert!(controller.ended(crate::wait::PATIENCE).is_some(), "it ends");
        }
    }

    /// Starts a node, for the first time or again.
    pub fn start_node(&mut self, name: &str) {
        let process = Process::start(self.command("/usr/sbin/slurmd").args(["-D", "-N", name]), self.folder.path(), name, "");
        if let Some((_, place)) = self.nodes.iter_mut().find(|(node, _)| node.name == name) {
            *place = Some(process);
        }
    }

    /// A node fails: its own process and all jobs on it are gone at once.
    pub fn fail_node(&mut self, name: &str) {
        if let Some(process) = self.nodes.iter_mut().find(|(node, _)| node.name == name).and_then(|(_, place)| place.take()) {
            process.kill();
        }
        self.end_jobs(name);
        self.said("scontrol", &["update", &format!("nodename={name}"), "state=down", "reason=failed"]);
    }

    /// Kills what jobs run on a node: each step has a process that looks after it, named after its node.
    fn end_jobs(&self, name: &str) {
        let spool = self.folder.path().join(format!("spool-{name}")).display().to_string();
        for entry in std::fs::read_dir("/proc").into_iter().flatten().flatten() {
            let Some(pid) = entry.file_name().to_str().and_then(|name| name.parse::<i32>().ok()) else { continue };
            let environment = std::fs::read(entry.path().join("environ")).unwrap_or_default();
            let command = std::fs::read(entry.path().join("cmdline")).unwrap_or_default();
            let of_node = String::from_utf8_lossy(&environment).split('\0').any(|line| line == format!("SLURMD_NODENAME={name}"));
            let looks_after = String::from_utf8_lossy(&command).contains(&spool);
            let ours = String::from_utf8_lossy(&environment).contains(&self.folder.path().display().to_string());
            if of_node && ours || looks_after {
                let _ = nix::sys::signal::kill(nix::unistd::Pid::from_raw(pid), nix::sys::signal::Signal::SIGKILL);
            }
        }
    }
}

impl Drop for Slurm {
    fn drop(&mut self) {
        self.said("scancel", &["--me"]);
        self.said("scancel", &["--me", "--signal=KILL", "--full"]);
        let names: Vec<&str> = self.nodes.iter().map(|(node, _)| node.name).collect();
        for name in names {
            self.end_jobs(name);
        }
        self.nodes.clear();
        self.controller = None;
        self.munge = None;
    }
}

fn configuration(folder: &Path, nodes: &[Node], ports: &[u16], port: u16) -> String {
    let at = |name: &str| folder.join(name).display().to_string();
    let mut text = format!(
        "ClusterName=salt\nSlurmctldHost=localhost\nSlurmctldPort={port}\nAuthType=auth/munge\nAuthInfo=socket={}\n\
         ProctrackType=proctrack/linuxproc\nTaskPlugin=task/none\nSwitchType=switch/none\nMpiDefault=none\nReturnToService=2\nSlurmUser=root\n\
         StateSaveLocation={}\nSlurmdSpoolDir={}-%n\nSlurmdPidFile={}-%n.pid\nSlurmctldPidFile={}\nSlurmctldLogFile={}\nSlurmdLogFile={}-%n.log\n\
         SelectType=select/cons_tres\nSelectTypeParameters=CR_Core_Memory\nKillWait=5\nMinJobAge=30\nSchedulerParameters=batch_sched_delay=0,sched_interval=2\n\
         SlurmctldTimeout=30\nSlurmdTimeout=60\nInactiveLimit=0\nJobAcctGatherType=jobacct_gather/none\n",
        at("munge/socket"),
        at("state"),
        at("spool"),
        at("slurmd"),
        at("slurmctld.pid"),
        at("slurmctld.log"),
        at("slurmd"),
    );
    for (node, port) in nodes.iter().zip(ports) {
        // Simulated nodes have more cores and memory than this machine: it is only counted.
        let Node { name, cores, memory_mib } = node;
        text += &format!(
            "NodeName={name} NodeHostname=localhost NodeAddr=127.0.0.1 Port={port} CPUs={cores} RealMemory={memory_mib} State=UNKNOWN\n"
        );
    }
    text += "PartitionName=tide Nodes=ALL Default=YES MaxTime=INFINITE State=UP\nSlurmdParameters=config_overrides\n";
    text
}

fn wait_for(path: &Path) {
    let end = std::time::Instant::now() + crate::wait::PATIENCE;
    while !path.exists() {
        assert!(std::time::Instant::now() < end, "{} did not come", path.display());
        std::thread::sleep(std::time::Duration::from_millis(10));
    }
}
