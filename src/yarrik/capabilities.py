"""Capabilities of files as the extended attribute `security.capability` holds them (linux/capability.h, VFS_CAP_REVISION_2)."""

from __future__ import annotations

import struct

from yarrik.errors import Damaged, Unfit, suggestion
from yarrik.patterns import lazy_pattern

#: By their numbers in linux/capability.h.
NAMES = (
    "cap_chown", "cap_dac_override", "cap_dac_read_search", "cap_fowner", "cap_fsetid", "cap_kill", "cap_setgid", "cap_setuid",
    "cap_setpcap", "cap_linux_immutable", "cap_net_bind_service", "cap_net_broadcast", "cap_net_admin", "cap_net_raw",
    "cap_ipc_lock", "cap_ipc_owner", "cap_sys_module", "cap_sys_rawio", "cap_sys_chroot", "cap_sys_ptrace", "cap_sys_pacct",
    "cap_sys_admin", "cap_sys_boot", "cap_sys_nice", "cap_sys_resource", "cap_sys_time", "cap_sys_tty_config", "cap_mknod",
    "cap_lease", "cap_audit_write", "cap_audit_control", "cap_setfcap", "cap_mac_override", "cap_mac_admin", "cap_syslog",
    "cap_wake_alarm", "cap_block_suspend", "cap_audit_read", "cap_perfmon", "cap_bpf", "cap_checkpoint_restore",
)  # fmt: skip
ATTRIBUTE = "security.capability"
_REVISION_2, _EFFECTIVE = 0x02000000, 0x000001
_CLAUSE = lazy_pattern(r"([a-z_]+(?:,[a-z_]+)*)([=+])([eip]+)")


def encode_capabilities(text: str) -> bytes:
    """The attribute's value of a text like `cap_net_raw=ep` (cap_from_text(3); no clauses that take away). Raises Unfit."""
    permitted = inheritable = effective = 0
    for word in text.split():
        match = _CLAUSE.fullmatch(word)
        if match is None:
            raise Unfit(f"`{word}` is not a set of capabilities, like `cap_net_raw=ep`")
        for name in match[1].split(","):
            if name not in NAMES:
                raise Unfit(f"there is no capability `{name}`; {suggestion(name, NAMES)}")
            bit = 1 << NAMES.index(name)
            permitted |= bit if "p" in match[3] else 0
            inheritable |= bit if "i" in match[3] else 0
            effective |= bit if "e" in match[3] else 0
    if not permitted | inheritable:
        raise Unfit(f"`{text}` gives no capability: write `p` for what a program may use, and `e` for what it starts with")
    # A file has one bit for all: either all that it may use are in effect from the start, or none.
    if effective and effective != permitted | inheritable:
        raise Unfit("a file has all its capabilities in effect from the start (`e`), or none of them")
    low = 0xFFFF_FFFF
    magic = _REVISION_2 | (_EFFECTIVE if effective else 0)
    return struct.pack("<5I", magic, permitted & low, inheritable & low, permitted >> 32, inheritable >> 32)


def decode_capabilities(value: bytes) -> str:
    """The text of an attribute's value, of revision 2 or 3 (which has the number of a namespace's root behind it). Raises
    Damaged."""
    if len(value) not in (20, 24) or value[3] not in (2, 3):
        raise Damaged("the capabilities are in a form that is not known")
    magic, *halves = struct.unpack("<5I", value[:20])
    permitted, inheritable = halves[0] | halves[2] << 32, halves[1] | halves[3] << 32
    sets: dict[str, list[str]] = {}
    for number in range(64):
        flags = "e" if magic & _EFFECTIVE else ""
        flags += ("i" if inheritable >> number & 1 else "") + ("p" if permitted >> number & 1 else "")
        if flags.strip("e"):
            sets.setdefault(flags, []).append(NAMES[number] if number < len(NAMES) else f"cap_{number}")
    return " ".join(f"{','.join(names)}={flags}" for flags, names in sets.items()) or "none"
