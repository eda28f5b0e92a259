"""Public keys for login, as `authorized_keys` files hold them: one on a line, in the form of RFC 4253, section 6.6."""

from __future__ import annotations

import base64
import binascii
import re

from yarrik.errors import Unfit
from yarrik.patterns import lazy_pattern

#: How many fields come after the type (RFC 4253, 8709, 5656; those of security keys as OpenSSH's PROTOCOL.u2f has them).
_FIELDS = {
    "ssh-ed25519": 1,
    "ssh-rsa": 2,
    "ecdsa-sha2-nistp256": 2,
    "ecdsa-sha2-nistp384": 2,
    "ecdsa-sha2-nistp521": 2,
    "sk-ssh-ed25519@openssh.com": 2,
    "sk-ecdsa-sha2-nistp256@openssh.com": 3,
}
_LINE = lazy_pattern(
    r"(?:(?P<options>\S(?:[^\"]|\"(?:\\\"|[^\"])*\")*?)\s+)?(?P<type>" + "|".join(map(re.escape, _FIELDS)) + r")\s+"
    r"(?P<key>[A-Za-z0-9+/]+={0,2})(?:\s+(?P<comment>.*))?"
)
#: Login services refuse RSA keys below this many bits, or soon will.
_LEAST_RSA_BITS = 2048
_ED25519_BYTES = 32


def check_login_key(line: str) -> None:
    """Checks one line: options, type, key and comment. Raises Unfit with what is wrong with it."""
    if "PRIVATE KEY" in line:
        raise Unfit("that is a private key: it stays with its owner, and the image gets the public one (the file `.pub`)")
    match = _LINE.fullmatch(line.strip()) if "\n" not in line.strip() else None
    if match is None:
        if re.search(r"\bssh-dss\b", line):
            raise Unfit("keys of the type ssh-dss are no longer accepted by login services")
        raise Unfit("that is not a public key for login: a type like ssh-ed25519, then the key, then a comment")
    kind = match["type"]
    fields = _fields(match["key"])
    if not fields or fields[0] != kind.encode():
        raise Unfit(f"the key is not of the type {kind} that the line begins with: it may be cut short or damaged")
    if len(fields) != _FIELDS[kind] + 1:
        raise Unfit(f"the key of the type {kind} is cut short or damaged")
    if kind == "ssh-ed25519" and len(fields[1]) != _ED25519_BYTES:
        raise Unfit(f"a key of the type ssh-ed25519 has {_ED25519_BYTES} bytes, and this one {len(fields[1])}")
    if kind == "ssh-rsa" and (bits := int.from_bytes(fields[2], "big").bit_length()) < _LEAST_RSA_BITS:
        raise Unfit(f"the RSA key has {bits} bits, and login services ask for {_LEAST_RSA_BITS} at least")


def _fields(text: str) -> list[bytes]:
    """The strings in a key, each with four bytes of length before it; none when they do not end with it."""
    try:
        data = base64.b64decode(text, validate=True)
    except binascii.Error:
        return []
    fields, at = [], 0
    while at < len(data):
        length = int.from_bytes(data[at : at + 4], "big")
        field = data[at + 4 : at + 4 + length]
        if len(data) - at < 4 or len(field) < length:
            return []
        fields.append(field)
        at += 4 + length
    return fields
