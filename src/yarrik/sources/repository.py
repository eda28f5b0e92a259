"""A commit of a git repository: fetched alone where the server gives single ones, and checked by git against its name."""

from __future__ import annotations

import os
import subprocess
from collections.abc import Callable, Sequence
from pathlib import Path

from yarrik.errors import NOWHERE, Place, Trouble, YarrikError

#: Seconds that one git command may take.
LONGEST = 3600
PROTOCOLS = "https:http:ssh:git:file"


def check_out(
    urls: Sequence[str], commit: str, submodules: bool, folder: Path, say: Callable[[str], None], place: Place = NOWHERE
) -> Path:
    """The commit's files in `folder`, which is made, from the first repository that has it. Raises YarrikError."""
    folder.mkdir(parents=True)
    _git(folder, "init", "--quiet")
    answers = []
    for url in urls:
        say(f"{url} {commit}")
        # A server may give single commits only if they are the end of a branch: then all of them are fetched.
        for words in (("--depth=1", url, commit), (url, "+refs/heads/*:refs/heads/theirs/*", "+refs/tags/*:refs/tags/*")):
            done = _git(folder, "fetch", "--quiet", "--no-recurse-submodules", *words)
            if done is None and _git(folder, "cat-file", "-e", f"{commit}^{{commit}}") is None:
                said = _git(folder, "checkout", "--quiet", "--detach", commit)
                if said is None and submodules:
                    said = _git(folder, "submodule", "update", "--quiet", "--init", "--recursive", "--depth=1")
                if said is None:
                    return folder
                done = said
            if done is not None:
                answers.append(f"{url}: {done}")
        if not answers or not answers[-1].startswith(url):
            answers.append(f"{url}: it has no such commit")
    raise YarrikError(
        Trouble("SOURCE-UNREACHABLE", f"the commit {commit[:12]}… cannot be fetched", place,
                why="\n".join(dict.fromkeys(answers)),
                remedy="check the address, the commit and the network; git ls-remote shows what is there"),
        "work",
    )  # fmt: skip


def _git(folder: Path, *words: str) -> str | None:
    """Runs git; None when it went well, else what it says. Settings of this machine have no say."""
    environment = {key: value for key, value in os.environ.items() if not key.startswith("GIT_") or key == "GIT_SSL_CAINFO"}
    environment |= {"GIT_ALLOW_PROTOCOL": PROTOCOLS, "GIT_TERMINAL_PROMPT": "0", "GIT_CONFIG_NOSYSTEM": "1", "LC_ALL": "C"}
    own = ("-c", "core.hooksPath=/dev/null", "-c", "core.autocrlf=false", "-c", "advice.detachedHead=false")
    try:
        done = subprocess.run(["git", *own, *words], cwd=folder, env=environment, stdin=subprocess.DEVNULL, capture_output=True,
                              text=True, errors="replace", timeout=LONGEST)  # fmt: skip
    except (OSError, subprocess.TimeoutExpired) as error:
        return str(error)
    if done.returncode == 0:
        return None
    lines = [line for line in done.stderr.splitlines() if line.strip()]
    return lines[-1] if lines else f"git {words[0]} ended with {done.returncode}"
