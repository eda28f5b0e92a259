"""How git is called on repositories of others: without this user's settings, filters, hooks and templates.

A repository names filters in its attributes, and settings of this machine give them commands; hooks come from templates; a
submodule may name any place. None of it has a say in what is fetched. What a server needs to let the user in is handed over
explicitly: helpers for credentials, proxies and certificates.
"""

from __future__ import annotations

import os
import re
import subprocess
from collections.abc import Mapping, Sequence
from functools import cache
from pathlib import Path

from yarrik.patterns import lazy_pattern

#: Variables of the environment that git may see: for proxies, certificates, agents and the terminal.
_LET_IN = lazy_pattern(
    r"PATH|HOME|USER|LOGNAME|TMPDIR|TERM|SSH_AUTH_SOCK|SSH_AGENT_PID|SSH_ASKPASS|DISPLAY|GIT_SSL_CAINFO|GIT_SSL_CAPATH|SSL_CERT_\w+"
    r"|(?i:https?_proxy|no_proxy|all_proxy)"
)
#: The user's settings that are handed over.
_HANDED_OVER = r"^(credential\.|http\.(.*\.)?(proxy|sslcainfo|sslcapath|extraheader)$)"
_NOBODYS = (
    "core.hooksPath=/dev/null", "core.attributesFile=/dev/null", "core.excludesFile=/dev/null", "core.fsmonitor=false",
    "core.autocrlf=false", "core.symlinks=true", "advice.detachedHead=false", "protocol.ext.allow=never",
    "commit.gpgSign=false", "tag.gpgSign=false", "log.showSignature=false", "init.templateDir=", "submodule.recurse=false",
)  # fmt: skip


def environment(more: Mapping[str, str] | None = None, protocols: str = "https:http:ssh:git") -> dict[str, str]:
    """The environment for git. `protocols` are those that it may use, with colons between them."""
    found = {key: value for key, value in os.environ.items() if _LET_IN.fullmatch(key)}
    found |= {
        "GIT_CONFIG_NOSYSTEM": "1", "GIT_CONFIG_GLOBAL": os.devnull, "GIT_CONFIG_SYSTEM": os.devnull, "GIT_ATTR_NOSYSTEM": "1",
        "GIT_TERMINAL_PROMPT": "0", "GIT_ALLOW_PROTOCOL": protocols, "LC_ALL": "C",
        # Who only looks writes nothing: a repository that was looked at counts as unchanged.
        "GIT_OPTIONAL_LOCKS": "0",
    }  # fmt: skip
    return found | dict(more or {})


def command(*words: str, handed_over: bool = False) -> list[str]:
    """How git is called. With `handed_over`, the user's helpers for credentials and proxies come along."""
    settings = [*_NOBODYS, *(_settings_of_the_user() if handed_over else ())]
    return ["git", *(word for setting in settings for word in ("-c", setting)), *words]


def run(
    folder: Path,
    *words: str,
    more: Mapping[str, str] | None = None,
    protocols: str = "",
    handed_over: bool = False,
    seconds: float = 3600,
) -> subprocess.CompletedProcess[str]:
    """Runs git in a folder. Raises OSError when there is none, and subprocess.TimeoutExpired."""
    return subprocess.run(
        command(*words, handed_over=handed_over), cwd=folder, env=environment(more, protocols), stdin=subprocess.DEVNULL,
        capture_output=True, text=True, errors="replace", timeout=seconds, check=False,
    )  # fmt: skip


@cache
def _settings_of_the_user() -> Sequence[str]:
    try:
        done = subprocess.run(
            ["git", "config", "--global", "--includes", "--null", "--get-regexp", _HANDED_OVER], stdin=subprocess.DEVNULL,
            capture_output=True, text=True, errors="replace", timeout=60, check=False, cwd="/",
        )  # fmt: skip
    except (OSError, subprocess.TimeoutExpired):
        return ()
    found = []
    for row in done.stdout.split("\0"):
        key, line_end, value = row.partition("\n")
        if key:
            found.append(f"{key}={value}" if line_end else key)
    return found


_WITH_PASSWORD = lazy_pattern(r"(?P<head>\b[a-z][a-z0-9+.-]*://)(?P<who>[^\s/@]*:[^\s/@]*|[^\s/@:]{16,})@", re.I)


def without_password(text: str) -> str:
    """A text with the passwords in its addresses left out, and what may be a token in place of a name (RFC 3986, 3.2.1)."""
    return _WITH_PASSWORD.sub(r"\g<head>…@", text)
