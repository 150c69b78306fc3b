//! Which system calls a fenced process may make: two filters (seccomp, as BPF programs) that bubblewrap loads before the step.
//!
//! Everything is allowed but what only serves to get out of a fence, or to reach parts of the kernel that building software
//! never needs: other name spaces, mounts, keyrings, modules, tracing the fence's own first process, unusual kinds of
//! sockets, pushing keys into a terminal. To add one: a line in [`DENIED`], or a rule in [`rules`].

use seccompiler::{
    BpfProgram, SeccompAction, SeccompCmpArgLen as Len, SeccompCmpOp as Op, SeccompCondition as Condition, SeccompFilter, SeccompRule,
    TargetArch,
};
use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

/// A system call by name and number.
type Call = (&'static str, libc::c_long);

/// Refused whatever their arguments are.
const DENIED: &[Call] = &[
    ("acct", libc::SYS_acct),
    ("add_key", libc::SYS_add_key),
    ("bpf", libc::SYS_bpf),
    ("clock_adjtime", libc::SYS_clock_adjtime),
    ("clock_settime", libc::SYS_clock_settime),
    ("delete_module", libc::SYS_delete_module),
    ("fanotify_init", libc::SYS_fanotify_init),
    ("finit_module", libc::SYS_finit_module),
    ("fsconfig", libc::SYS_fsconfig),
    ("fsmount", libc::SYS_fsmount),
    ("fsopen", libc::SYS_fsopen),
    ("fspick", libc::SYS_fspick),
    ("init_module", libc::SYS_init_module),
    ("kexec_file_load", libc::SYS_kexec_file_load),
    ("kexec_load", libc::SYS_kexec_load),
    ("keyctl", libc::SYS_keyctl),
    ("mount", libc::SYS_mount),
    ("mount_setattr", libc::SYS_mount_setattr),
    ("move_mount", libc::SYS_move_mount),
    ("open_by_handle_at", libc::SYS_open_by_handle_at),
    ("open_tree", libc::SYS_open_tree),
    ("perf_event_open", libc::SYS_perf_event_open),
    ("pivot_root", libc::SYS_pivot_root),
    ("quotactl", libc::SYS_quotactl),
    ("reboot", libc::SYS_reboot),
    ("request_key", libc::SYS_request_key),
    ("setdomainname", libc::SYS_setdomainname),
    ("sethostname", libc::SYS_sethostname),
    ("setns", libc::SYS_setns),
    ("settimeofday", libc::SYS_settimeofday),
    ("swapoff", libc::SYS_swapoff),
    ("swapon", libc::SYS_swapon),
    ("syslog", libc::SYS_syslog),
    ("umount2", libc::SYS_umount2),
    ("userfaultfd", libc::SYS_userfaultfd),
    ("vhangup", libc::SYS_vhangup),
];

/// Answered as if the kernel did not have them, so that programs take the older way, which the other filter can judge: what
/// a `clone3` or a ring of requests asks for lies in memory, where a filter cannot look.
const UNKNOWN: &[Call] = &[
    ("clone3", libc::SYS_clone3),
    ("io_uring_setup", libc::SYS_io_uring_setup),
    ("io_uring_enter", libc::SYS_io_uring_enter),
    ("io_uring_register", libc::SYS_io_uring_register),
];

/// Families of sockets that ordinary programs use; netlink serves to list one's own addresses.
const FAMILIES: [i32; 4] = [libc::AF_UNIX, libc::AF_INET, libc::AF_INET6, libc::AF_NETLINK];

/// Families have numbers up to 46 in the kernels of today; no more can be asked for.
const HIGHEST_FAMILY: i32 = 64;

/// The second table of system calls of x86-64 kernels: the same numbers with this bit, and some of their own.
#[cfg(target_arch = "x86_64")]
const X32: i64 = 0x4000_0000;

/// Why there is no filter of system calls.
#[derive(Debug, thiserror::Error)]
pub(crate) enum FilterError {
    #[error("the filter of system calls could not be made")]
    Make(#[from] seccompiler::BackendError),
    #[error("{}: {source}", path.display())]
    Write { path: PathBuf, source: std::io::Error },
    #[error("there is no filter of system calls for this kind of processor")]
    Arch,
}

type Rules = BTreeMap<i64, Vec<SeccompRule>>;

/// Whichever of the conditions of one rule hold together refuse the call.
fn rules() -> Result<Rules, seccompiler::BackendError> {
    let is = |argument, value: u64| Condition::new(argument, Len::Dword, Op::Eq, value);
    let isnt = |argument, value: u64| Condition::new(argument, Len::Dword, Op::Ne, value);
    let number = |value: i32| u64::from(value.unsigned_abs());
    let has_newuser = |argument| {
        let flag = number(libc::CLONE_NEWUSER);
        Condition::new(argument, Len::Dword, Op::MaskedEq(flag), flag)
    };
    let mut rules: Rules = DENIED.iter().map(|(_, call)| (*call, Vec::new())).collect();
    let mut add = |call: libc::c_long, conditions: Vec<Condition>| -> Result<(), seccompiler::BackendError> {
        rules.entry(call).or_default().push(SeccompRule::new(conditions)?);
        Ok(())
    };
    add(libc::SYS_unshare, vec![has_newuser(0)?])?;
    add(libc::SYS_clone, vec![has_newuser(0)?])?;
    let unusual: Result<Vec<Condition>, _> = FAMILIES.iter().map(|family| isnt(0, number(*family))).collect();
    add(libc::SYS_socket, unusual?)?;
    // Process 1 is the fence's own: a step that stopped it could never be seen to end.
    for call in [libc::SYS_ptrace, libc::SYS_process_vm_readv, libc::SYS_process_vm_writev, libc::SYS_pidfd_open] {
        let argument = u8::from(call == libc::SYS_ptrace);
        add(call, vec![is(argument, 1)?])?;
    }
    for request in [libc::TIOCSTI, libc::TIOCLINUX] {
        add(libc::SYS_ioctl, vec![is(1, request)?])?;
    }
    Ok(rules)
}

#[cfg(target_arch = "x86_64")]
fn with_second_table(rules: Rules) -> Rules {
    let second: Vec<(i64, Vec<SeccompRule>)> = rules.iter().map(|(call, rules)| (call | X32, rules.clone())).collect();
    let own = (512..=547).map(|call| (call | X32, Vec::new()));
    rules.into_iter().chain(second).chain(own).collect()
}

#[cfg(not(target_arch = "x86_64"))]
fn with_second_table(rules: Rules) -> Rules {
    rules
}

fn program(rules: Rules, refusal: i32) -> Result<Vec<u8>, FilterError> {
    let arch = TargetArch::try_from(std::env::consts::ARCH).map_err(|_| FilterError::Arch)?;
    let refusal = SeccompAction::Errno(refusal.unsigned_abs());
    let filter = SeccompFilter::new(with_second_table(rules), SeccompAction::Allow, refusal, arch)?;
    let program = BpfProgram::try_from(filter)?;
    // As the kernel and bubblewrap read it: 2 bytes of code, two jumps, 4 bytes of value, in the machine's own order.
    let bytes = program.iter().flat_map(|line| {
        let [a, b] = line.code.to_ne_bytes();
        let [c, d, e, f] = line.k.to_ne_bytes();
        [a, b, line.jt, line.jf, c, d, e, f]
    });
    Ok(bytes.collect())
}

/// Writes the filters into a folder; gives their files.
pub(crate) fn write(folder: &Path) -> Result<[PathBuf; 2], FilterError> {
    let unknown: Rules = UNKNOWN.iter().map(|(_, call)| (*call, Vec::new())).collect();
    let write = |name: &str, program: Vec<u8>| {
        let path = folder.join(name);
        std::fs::write(&path, program).map_err(|source| FilterError::Write { path: path.clone(), source })?;
        Ok::<PathBuf, FilterError>(path)
    };
    Ok([write("refused.bpf", program(rules()?, libc::EPERM)?)?, write("unknown.bpf", program(unknown, libc::ENOSYS)?)?])
}

/// The same for containers, as the OCI runtime specification writes a filter. Process 1 of a container is not part of a fence.
pub(crate) fn for_containers(path: &Path) -> Result<(), FilterError> {
    let names = |calls: &[Call]| calls.iter().map(|(name, _)| *name).collect::<Vec<_>>();
    let refused = |names: Vec<&str>, error: i32, args: serde_json::Value| serde_json::json!({ "names": names, "action": "SCMP_ACT_ERRNO", "errnoRet": error, "args": args });
    let newuser =
        serde_json::json!([{ "index": 0, "value": libc::CLONE_NEWUSER, "valueTwo": libc::CLONE_NEWUSER, "op": "SCMP_CMP_MASKED_EQ" }]);
    let is = |request: u64| serde_json::json!([{ "index": 1, "value": request, "op": "SCMP_CMP_EQ" }]);
    // An engine takes several conditions on one argument for alternatives, so each family has a line of its own.
    let unusual = (1..=HIGHEST_FAMILY).filter(|family| !FAMILIES.contains(family));
    let socket =
        |family: i32| refused(vec!["socket"], libc::EPERM, serde_json::json!([{ "index": 0, "value": family, "op": "SCMP_CMP_EQ" }]));
    let mut syscalls: Vec<serde_json::Value> = unusual.map(socket).collect();
    syscalls.extend([
        refused(names(DENIED), libc::EPERM, serde_json::json!([])),
        refused(names(UNKNOWN), libc::ENOSYS, serde_json::json!([])),
        refused(vec!["unshare", "clone"], libc::EPERM, newuser),
        refused(vec!["ioctl"], libc::EPERM, is(libc::TIOCSTI)),
        refused(vec!["ioctl"], libc::EPERM, is(libc::TIOCLINUX)),
    ]);
    let profile = serde_json::json!({ "defaultAction": "SCMP_ACT_ALLOW", "syscalls": syscalls });
    std::fs::write(path, profile.to_string()).map_err(|source| FilterError::Write { path: path.to_owned(), source })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn filters_are_whole_lines_and_of_a_size_that_the_kernel_takes() {
        let folder = tempfile::tempdir().unwrap();
        for path in write(folder.path()).unwrap() {
            let length = std::fs::metadata(&path).unwrap().len();
            assert!(length > 32 && length % 8 == 0 && length / 8 < 4096, "{}: {length}", path.display());
        }
    }
}
