//! Ways out that were tried: one line each. A script prints `ESCAPED` when it got out, and `tried` at its end; what it must not
//! see is written as `{SECRET}` nowhere but outside, so that any of it in a log is found.
//!
//! Words that are filled in: `{OUT}` a folder outside that everybody may read, with `{OUT}/secret`; `{RUNNER}` and `{OTHER}` the
//! folders of this runner and of another; `{SERVICE}` the service's; `{PORT}` a port on the machine's loopback; `{LINKLOCAL}`
//! the same on a link-local address; `{PID}` a process of the machine's.

pub(super) struct Attempt {
    pub(super) name: &'static str,
    /// For the guide.
    pub(super) tries: &'static str,
    pub(super) script: &'static str,
    /// Fences in which it does not apply, and why.
    pub(super) except: &'static [(&'static str, &'static str)],
}

const NO_PYTHON: &[(&str, &str)] = &[("container", "the image brings no interpreter to call with; the filter is the same")];
const OWN_FILES: &[(&str, &str)] = &[("container", "root of the image's own files, which go with the container")];

const fn all(name: &'static str, tries: &'static str, script: &'static str) -> Attempt {
    Attempt { name, tries, script, except: &[] }
}

const fn call(name: &'static str, tries: &'static str, script: &'static str) -> Attempt {
    Attempt { name, tries, script, except: NO_PYTHON }
}

const fn own(name: &'static str, tries: &'static str, script: &'static str) -> Attempt {
    Attempt { name, tries, script, except: OWN_FILES }
}

pub(super) const ATTEMPTS: &[Attempt] = &[
    // Files of the machine.
    own(
        "write-system",
        "write into the system's folders",
        "for f in /etc/x /usr/x /bin/x /sbin/x /lib/x /opt/x /srv/x /var/x /home/x /root/x /x; do (echo x > $f) 2>/dev/null && echo ESCAPED $f; done",
    ),
    all("write-outside", "write into a folder outside", "(echo x > {OUT}/x) 2>/dev/null && echo ESCAPED"),
    all("read-outside", "read what everybody may read outside", "cat {OUT}/secret 2>/dev/null && echo ESCAPED"),
    all("read-shadow", "read the passwords of the machine", "grep -v nologin /etc/shadow 2>/dev/null | grep . && echo ESCAPED"),
    all("read-keys", "read the key that secrets are sealed with", "cat {SERVICE}/secrets.key 2>/dev/null && echo ESCAPED"),
    all("read-database", "read the service's database", "cat {SERVICE}/ordotaxis.db 2>/dev/null && echo ESCAPED"),
    all("read-credential", "read the runner's credential", "cat {RUNNER}/runner.toml 2>/dev/null && echo ESCAPED"),
    all("read-other-runner", "read another runner's credential", "cat {OTHER}/runner.toml 2>/dev/null && echo ESCAPED"),
    all("list-runner", "list the runner's folder", "ls {RUNNER} 2>/dev/null | grep . && echo ESCAPED"),
    all(
        "list-homes",
        "list what lies in homes",
        "ls /home/* /root/.ssh /root/.config /root/.aws /root/.bashrc /root/.profile 2>/dev/null | grep . && echo ESCAPED",
    ),
    own(
        "list-root",
        "find anything of the machine's that is not meant for jobs",
        "for f in /boot /mnt /media /srv /var /opt /work; do ls -d $f 2>/dev/null && echo ESCAPED; done",
    ),
    all("climb", "climb out of the job's folder", "cat ../../../../../../../../{OUT}/secret 2>/dev/null && echo ESCAPED"),
    all(
        "hard-link",
        "link a file of the system's into the job's folder",
        "ln /usr/bin/env ./env 2>/dev/null && echo ESCAPED; ln /etc/passwd ./pw 2>/dev/null && [ ! -w / ] && echo ESCAPED",
    ),
    // What the kernel shows of itself.
    all(
        "core-pattern",
        "have the kernel start a program at a crash",
        "(echo '|/job/x' > /proc/sys/kernel/core_pattern) 2>/dev/null && echo ESCAPED",
    ),
    all(
        "modprobe-path",
        "have the kernel start a program as a module's loader",
        "(echo /job/x > /proc/sys/kernel/modprobe) 2>/dev/null && echo ESCAPED",
    ),
    all("sysrq", "press the kernel's emergency keys", "(echo h > /proc/sysrq-trigger) 2>/dev/null && echo ESCAPED"),
    all(
        "uevent-helper",
        "have the kernel start a program for a device",
        "(echo /job/x > /sys/kernel/uevent_helper) 2>/dev/null && echo ESCAPED",
    ),
    all(
        "proc-sys",
        "change any setting of the kernel",
        "for f in $(find /proc/sys -type f 2>/dev/null | head -400); do [ -w $f ] && (cat $f > $f) 2>/dev/null && case $f in /proc/sys/user/*) : ;; /proc/sys/net/*) : ;; *) echo ESCAPED $f; esac; done",
    ),
    all(
        "kernel-memory",
        "read the kernel's memory",
        "for f in /proc/kcore /dev/mem /dev/kmem /proc/kmsg; do head -c 4 $f 2>/dev/null | grep -q . && echo ESCAPED $f; done",
    ),
    all("kernel-log", "read the kernel's log", "dmesg 2>/dev/null | grep -q . && echo ESCAPED"),
    all(
        "cgroup-agent",
        "have the kernel start a program at a group's end",
        "for f in $(find /sys/fs/cgroup -name release_agent -o -name cgroup.procs 2>/dev/null | head); do (echo 0 > $f) 2>/dev/null && echo ESCAPED $f; done",
    ),
    // Devices.
    all(
        "make-device",
        "make a device of the machine's disk",
        "mknod disk b 254 0 2>/dev/null && echo ESCAPED; mknod mem c 1 1 2>/dev/null && echo ESCAPED",
    ),
    all(
        "read-disk",
        "read the machine's disk",
        "for f in /dev/sda /dev/vda /dev/nvme0n1 /dev/loop0 /dev/dm-0; do head -c 4 $f 2>/dev/null | grep -q . && echo ESCAPED $f; done",
    ),
    all("tun", "open the device for networks", "(: < /dev/net/tun) 2>/dev/null && echo ESCAPED"),
    // Mounts and name spaces.
    all(
        "mount",
        "mount a file system",
        "mount -t tmpfs x /mnt 2>/dev/null && echo ESCAPED; mount -t proc x /tmp 2>/dev/null && echo ESCAPED",
    ),
    all(
        "remount",
        "make the system writable",
        "mount -o remount,rw / 2>/dev/null && echo ESCAPED; mount -o remount,bind,rw /usr 2>/dev/null && echo ESCAPED",
    ),
    all(
        "unmount",
        "uncover what lies below a mount",
        "for f in /tmp /job /proc /etc/passwd /proc/1; do umount $f 2>/dev/null && echo ESCAPED $f; umount -l $f 2>/dev/null && echo ESCAPED $f; done",
    ),
    all(
        "user-namespace",
        "become root in a user name space",
        "unshare -Ur true 2>/dev/null && echo ESCAPED; unshare -U true 2>/dev/null && echo ESCAPED",
    ),
    all("other-namespaces", "make other name spaces", "for f in -m -n -p -u -i; do unshare $f true 2>/dev/null && echo ESCAPED $f; done"),
    all(
        "enter-namespace",
        "enter the name spaces of process 1",
        "nsenter -t 1 -m true 2>/dev/null && echo ESCAPED; nsenter -t 1 -n true 2>/dev/null && echo ESCAPED",
    ),
    all("chroot", "change the root", "mkdir -p r; chroot r /x 2>&1 | grep -qi 'no such' && echo ESCAPED"),
    // Other users' rights.
    own(
        "set-uid-own",
        "become another user by a file of one's own",
        "cp $(command -v id) ./id 2>/dev/null; chmod 4755 ./id; [ \"$(./id -u 2>/dev/null)\" = \"$(id -u)\" ] || echo ESCAPED",
    ),
    own(
        "set-uid-system",
        "become root by the system's programs",
        "for p in 'su -c id' 'sudo -n id' 'newuidmap 1 0 0 1' 'pkexec id' 'mount /mnt'; do $p < /dev/null 2>/dev/null | grep -q 'uid=0' && echo ESCAPED $p; done",
    ),
    all("chown", "give a file to another user", "touch mine; chown 12 mine 2>/dev/null && [ ! -w / ] && echo ESCAPED"),
    own(
        "capabilities",
        "have any capability",
        "grep -E 'Cap(Eff|Prm|Bnd|Amb)' /proc/self/status | grep -vq 0000000000000000 && echo ESCAPED",
    ),
    all("new-privileges", "be able to gain privileges", "grep -q 'NoNewPrivs:.*1' /proc/self/status || echo ESCAPED"),
    // Other processes.
    all(
        "see-processes",
        "see processes of the machine",
        "[ $(ls -d /proc/[0-9]* | wc -l) -lt 15 ] || echo ESCAPED; ls -d /proc/{PID} 2>/dev/null && echo ESCAPED",
    ),
    all("kill-process", "end a process of the machine", "kill -0 {PID} 2>/dev/null && echo ESCAPED"),
    own("fence-environment", "read the fence's environment", "tr '\\0' '\\n' < /proc/1/environ 2>/dev/null | grep . && echo ESCAPED"),
    own(
        "fence-root",
        "reach the machine through the fence's own process",
        "ls /proc/1/root/ 2>/dev/null | grep . && echo ESCAPED; ls /proc/1/cwd/ 2>/dev/null | grep . && echo ESCAPED; ls /proc/1/fd 2>/dev/null | grep . && echo ESCAPED",
    ),
    own("fence-memory", "write the fence's memory", "(printf x | dd of=/proc/1/mem bs=1 seek=4096 2>/dev/null) && echo ESCAPED"),
    all("fence-stop", "stop the fence's own process so that the job never ends", "kill -STOP 1 2>/dev/null; kill -KILL 1 2>/dev/null"),
    all(
        "open-handles",
        "find a handle of the runner's that was left open",
        "for f in /proc/self/fd/*; do case $(readlink $f) in /proc/*|pipe:*|/dev/null|/job*|'') : ;; *) echo ESCAPED $f $(readlink $f); esac; done",
    ),
    all(
        "leave-daemon",
        "leave a process behind that ignores everything",
        "(setsid sh -c 'trap \"\" TERM HUP INT; exec sleep 97531{MARK}' > /dev/null 2>&1 &)",
    ),
    // Calls of the kernel.
    call("trace-fence", "trace the fence's own process", "python3 calls.py ptrace"),
    call("peek-fence", "read the fence's memory by call", "python3 calls.py process_vm_readv"),
    call("poke-fence", "write the fence's memory by call", "python3 calls.py process_vm_writev"),
    call("pidfd-fence", "hold the fence's own process by a handle", "python3 calls.py pidfd_open"),
    call("keyring", "use the kernel's keyrings", "python3 calls.py keyctl add_key request_key"),
    call("bpf", "load programs into the kernel", "python3 calls.py bpf"),
    call("perf", "count the kernel's events", "python3 calls.py perf_event_open"),
    call("userfaultfd", "handle page faults of the kernel", "python3 calls.py userfaultfd"),
    call("io-uring", "go around the filter by a ring of requests", "python3 calls.py io_uring_setup"),
    call("clone3", "make name spaces by the newest call", "python3 calls.py clone3"),
    call("clone-user", "make a user name space by clone and unshare", "python3 calls.py clone_user unshare_user"),
    call("x32", "use the kernel's second table of calls", "python3 calls.py x32"),
    call("modules", "load a module, another kernel, a swap file", "python3 calls.py init_module finit_module kexec_load swapon"),
    call("mounts-new", "mount by the newer calls", "python3 calls.py fsopen open_tree move_mount mount_setattr"),
    call("handles", "open files by handle", "python3 calls.py open_by_handle_at"),
    call("clock", "set the machine's clock or name, or restart it", "python3 calls.py clock_settime settimeofday sethostname reboot"),
    call("raw-sockets", "open unusual sockets", "python3 calls.py packet vsock alg raw key"),
    call("terminal", "push keys into a terminal", "python3 calls.py tiocsti"),
    call("abstract-socket", "reach an abstract socket of the machine", "python3 calls.py abstract"),
    // The network.
    all(
        "loopback",
        "reach the machine's loopback",
        "for h in 127.0.0.1 localhost 10.0.2.2; do (echo | nc -w 1 $h {PORT} || busybox nc -w 1 $h {PORT} < /dev/null) 2>/dev/null | grep . && echo ESCAPED $h; done",
    ),
    all(
        "link-local",
        "reach a link-local address, where clouds keep credentials",
        "(nc -w 1 {LINKLOCAL} {PORT} < /dev/null || busybox nc -w 1 {LINKLOCAL} {PORT} < /dev/null) 2>/dev/null | grep . && echo ESCAPED",
    ),
    all(
        "change-network",
        "change the job's own network",
        "ip route del unreachable 169.254.0.0/16 2>/dev/null && echo ESCAPED; ip addr add 10.9.9.9/32 dev lo 2>/dev/null && echo ESCAPED; ip link set lo down 2>/dev/null && echo ESCAPED",
    ),
    // What others left.
    all(
        "left-memory",
        "find memory that another job left",
        "ls -A /dev/shm 2>/dev/null | grep . && echo ESCAPED; ipcs -m 2>/dev/null | grep 0x && echo ESCAPED; echo mine > /dev/shm/left 2>/dev/null",
    ),
    all("left-files", "find files that another job left", "ls -A /tmp | grep -v '^facts$' | grep . && echo ESCAPED; echo mine > /tmp/left"),
    all("environment", "find the runner's words in the environment", "env | grep -iE 'credential|oxr_|{RUNNER}' && echo ESCAPED"),
];
