"""The file that wpa_supplicant(8) joins a wireless network by (wpa_supplicant.conf(5))."""

from __future__ import annotations

import hashlib
import re

from yarrik.errors import Unfit
from yarrik.model import Interface

#: Where that program usually is.
WIRELESS_PROGRAM = "/usr/sbin/wpa_supplicant"
#: IEEE 802.11, annex J.4: how the key follows from a passphrase.
_ROUNDS, _KEY_BYTES = 4096, 32


def wireless_key(ssid: str, secret: str) -> str:
    """The key of 64 hexadecimal digits: a secret that is such a key already, or what follows from a passphrase of 8 to 63
    printable characters. Raises Unfit."""
    if re.fullmatch(r"[0-9a-fA-F]{64}", secret):
        return secret.lower()
    if not (8 <= len(secret) <= 63) or not secret.isascii() or not secret.isprintable():
        raise Unfit("a passphrase of a wireless network has 8 to 63 printable ASCII characters")
    return hashlib.pbkdf2_hmac("sha1", secret.encode(), ssid.encode(), _ROUNDS, _KEY_BYTES).hex()


def wireless_path(interface: str) -> str:
    """Where an interface's file is, as services of that program look for it."""
    return f"/etc/wpa_supplicant/wpa_supplicant-{interface}.conf"


def wireless_file(one: Interface, key: str) -> str:
    """The file's text; an empty key is for a network that is open to all."""
    assert one.wireless is not None
    country = [f"country={one.wireless.country}"] if one.wireless.country else []
    how = f"\tpsk={key}" if key else "\tkey_mgmt=NONE"
    # Written as digits, a name may have any characters.
    return "\n".join(
        [
            "ctrl_interface=/run/wpa_supplicant",
            *country,
            "network={",
            f"\tssid={one.wireless.ssid.encode().hex()}",
            how,
            "}",
            "",
        ]
    )
