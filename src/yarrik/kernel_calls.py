"""Functions of the C library that do nothing but ask the kernel, and the kernel options without which it says no.

A kernel that is configured small has none of them (the options are those of `init/Kconfig`, `fs/Kconfig`, `ipc/Kconfig` and
`drivers/tty/Kconfig`): the call fails with ENOSYS, or the file that it opens is not there, and nothing says so before the
program runs."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

#: The option (without `CONFIG_`) that each function needs; with several, any of them will do.
KERNEL_CALLS: dict[str, tuple[str, ...]] = {
    "__mq_open_2": ("POSIX_MQUEUE",),
    "acct": ("BSD_PROCESS_ACCT",),
    "add_key": ("KEYS",),
    "epoll_create": ("EPOLL",),
    "epoll_create1": ("EPOLL",),
    "eventfd": ("EVENTFD",),
    "fanotify_init": ("FANOTIFY",),
    "flock": ("FILE_LOCKING",),
    "forkpty": ("UNIX98_PTYS", "LEGACY_PTYS"),
    "init_module": ("MODULES",),
    "inotify_init": ("INOTIFY_USER",),
    "inotify_init1": ("INOTIFY_USER",),
    "keyctl": ("KEYS",),
    "klogctl": ("PRINTK",),
    "lockf": ("FILE_LOCKING",),
    "lockf64": ("FILE_LOCKING",),
    "memfd_create": ("MEMFD_CREATE", "TMPFS", "HUGETLBFS"),
    "mq_open": ("POSIX_MQUEUE",),
    "msgget": ("SYSVIPC",),
    "name_to_handle_at": ("FHANDLE",),
    "open_by_handle_at": ("FHANDLE",),
    "openpty": ("UNIX98_PTYS", "LEGACY_PTYS"),
    "posix_openpt": ("UNIX98_PTYS",),
    "process_vm_readv": ("CROSS_MEMORY_ATTACH",),
    "process_vm_writev": ("CROSS_MEMORY_ATTACH",),
    "pthread_create": ("FUTEX",),
    "quotactl": ("QUOTACTL",),
    "request_key": ("KEYS",),
    "semget": ("SYSVIPC",),
    "setns": ("NAMESPACES",),
    "shmget": ("SYSVIPC",),
    "signalfd": ("SIGNALFD",),
    "socket": ("NET",),
    "swapon": ("SWAP",),
    "timer_create": ("POSIX_TIMERS",),
    "timerfd_create": ("TIMERFD",),
    "unshare": ("NAMESPACES",),
}

#: Programs that are good for nothing without an option, by name: what they ask the kernel is in no table of functions. Of each,
#: upstream's documentation names the options.
PROGRAM_NEEDS: dict[str, tuple[str, ...]] = {
    "candump": ("CAN",),
    "cansend": ("CAN",),
    "dhclient": ("PACKET",),
    "dhcpcd": ("PACKET",),
    "i2cdetect": ("I2C_CHARDEV",),
    "iptables": ("NETFILTER",),
    "iw": ("CFG80211",),
    "mtdinfo": ("MTD",),
    "nft": ("NF_TABLES",),
    "systemd": ("CGROUPS", "DEVTMPFS", "FHANDLE", "PROC_FS", "SYSFS", "UNIX"),
    "systemd-networkd": ("PACKET",),
    "systemd-udevd": ("DEVTMPFS", "UNIX"),
    "tcpdump": ("PACKET",),
    "udhcpc": ("PACKET",),
    "wpa_supplicant": ("PACKET",),
}


def missing_needs(path: str, config: Mapping[str, str]) -> list[str]:
    """The options that the kernel lacks and without which the program at this path does not work."""
    folder, _, name = path.rpartition("/")
    if not (folder.endswith("bin") or folder.endswith(("/systemd", "/libexec"))):
        return []
    return [option for option in PROGRAM_NEEDS.get(name, ()) if config.get(option, "n") not in ("y", "m")]


def missing_options(calls: Sequence[str], config: Mapping[str, str]) -> dict[str, list[str]]:
    """The options that the kernel lacks, each with the functions that need it. `config` has values by option without
    `CONFIG_`; what it does not name is not set. Of several that would do, the first one counts."""
    found: dict[str, list[str]] = {}
    for call in calls:
        options = KERNEL_CALLS.get(call, ())
        if options and not any(config.get(option, "n") in ("y", "m") for option in options):
            found.setdefault(options[0], []).append(call)
    return found
