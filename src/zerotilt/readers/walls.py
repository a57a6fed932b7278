"""Walls around a process that reads somebody's file: no network, no other program, no look into other processes.

They are a filter of system calls (seccomp) that a process puts up around itself before it opens the file, that it cannot
take down, and that everything it starts inherits. What is behind them gets EPERM, as where it has no right.
"""

from __future__ import annotations

import errno
import os
import socket

from zerotilt.cluster import VARIABLE

try:  # here and not where it is used: it looks for the system's library with a program, which is slow, and closed later
    import pyseccomp as seccomp
except (ImportError, OSError, RuntimeError):
    seccomp = None

CLOSED = (
    # other programs, other processes
    "execve", "execveat", "ptrace", "process_vm_readv", "process_vm_writev", "process_madvise", "pidfd_getfd",
    "pidfd_send_signal", "kcmp",
    # other users, other views of the machine
    "setns", "unshare", "mount", "umount2", "pivot_root", "chroot", "move_mount", "open_tree", "fsopen", "fsmount", "fsconfig",
    "fspick", "mount_setattr", "open_by_handle_at", "name_to_handle_at", "sethostname", "setdomainname",
    # the kernel itself
    "bpf", "perf_event_open", "userfaultfd", "io_uring_setup", "io_uring_enter", "io_uring_register", "add_key", "request_key",
    "keyctl", "init_module", "finit_module", "delete_module", "kexec_load", "kexec_file_load", "reboot", "swapon", "swapoff",
    "acct", "quotactl", "settimeofday", "clock_settime", "clock_adjtime", "adjtimex", "iopl", "ioperm", "syslog", "nfsservctl",
    "vhangup", "lookup_dcookie", "fanotify_init",
)  # fmt: skip


def raise_walls() -> bool:
    """Put them up around this process; False where the machine has none to offer, which :func:`missing` says.

    With a cluster the network stays open: a reader hands its work to the scheduler itself.
    """
    if missing():
        return False
    walls = seccomp.SyscallFilter(seccomp.ALLOW)
    refused = seccomp.ERRNO(errno.EPERM)
    for name in CLOSED:
        if _known(name):
            walls.add_rule(refused, name)
    if not networked():
        walls.add_rule(refused, "socket", seccomp.Arg(0, seccomp.NE, socket.AF_UNIX))
    walls.set_attr(seccomp.Attr.CTL_TSYNC, 1)  # of every thread, should there be others
    walls.load()
    return True


def networked() -> bool:
    """Whether readers talk to a cluster."""
    return bool(os.environ.get(VARIABLE))


def _known(name: str) -> bool:
    """Whether this machine's kind of processor has such a call."""
    return seccomp.resolve_syscall(seccomp.Arch.NATIVE, name) >= 0


def missing() -> str:
    """Why there are none here, in words; empty where there are."""
    if seccomp is None:
        return "the system's library libseccomp is not installed"
    try:
        with open("/proc/sys/kernel/seccomp/actions_avail") as file:
            return "" if "errno" in file.read() else "the kernel filters no system calls"
    except OSError:
        return "the kernel filters no system calls"


def said() -> tuple[str, str]:
    """What keeps models in, in words; and what to do where nothing does."""
    if why := missing():
        return f"nothing keeps them from the network ({why})", "Install libseccomp2 from the system's packages."
    if networked():
        return "they can start no program; the network is open to them, since a cluster computes", ""
    return "they reach no network and can start no program", ""
