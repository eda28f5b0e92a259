"""A commit of a git repository: fetched alone where the server gives single ones, and checked by git against its name."""

from __future__ import annotations

import re
import subprocess
from collections.abc import Callable, Sequence
from pathlib import Path

from yarrik.errors import NOWHERE, Place, Trouble, YarrikError
from yarrik.sources import git

#: What the user may name, and what a repository may name as its submodule: never a place of this machine.
PROTOCOLS, OF_OTHERS = "https:http:ssh:git:file", "https:http:ssh:git"


def check_out(
    urls: Sequence[str], commit: str, submodules: bool, folder: Path, say: Callable[[str], None], place: Place = NOWHERE
) -> Path:
    """The commit's files in `folder`, which is made, from the first repository that has it. Raises YarrikError.

    Submodules come from servers only, unless the repository itself is on this machine."""
    folder.mkdir(parents=True)
    _git(folder, "init", "--quiet")
    answers = []
    for url in urls:
        shown = git.without_password(url)
        say(f"{shown} {commit}")
        # A server may give single commits only if they are the end of a branch: then all of them are fetched.
        everything = ("+refs/heads/*:refs/heads/theirs/*", "+refs/tags/*:refs/tags/*")
        for depth, refs in ((("--depth=1",), (commit,)), ((), everything)):
            done = _git(folder, "fetch", "--quiet", "--no-recurse-submodules", *depth, "--end-of-options", url, *refs)
            if done is None and _git(folder, "cat-file", "-e", f"{commit}^{{commit}}") is None:
                said = _git(folder, "checkout", "--quiet", "--detach", commit)
                if said is None and submodules:
                    local = PROTOCOLS if url.startswith("file:") else OF_OTHERS
                    said = _git(folder, "submodule", "update", "--quiet", "--init", "--recursive", "--depth=1", protocols=local)
                    if said is not None and "not allowed" in said:
                        said = f"a submodule names a place on this machine, which only a repository on it may ({said})"
                if said is None:
                    return folder
                done = said
            if done is not None:
                answers.append(f"{shown}: {done}")
        if not answers or not answers[-1].startswith(shown):
            answers.append(f"{shown}: it has no such commit")
    raise YarrikError(
        Trouble("SOURCE-UNREACHABLE", f"the commit {commit[:12]}… cannot be fetched", place,
                why="\n".join(dict.fromkeys(answers)),
                remedy="check the address, the commit and the network; git ls-remote lists what the server has"),
        "work",
    )  # fmt: skip


def _git(folder: Path, *words: str, protocols: str = PROTOCOLS) -> str | None:
    """Runs git; None when it went well, else what it says, without passwords."""
    try:
        done = git.run(folder, *words, protocols=protocols, handed_over=True)
    except (OSError, subprocess.TimeoutExpired) as error:
        return git.without_password(str(error))
    if done.returncode == 0:
        return None
    lines = [line for line in done.stderr.splitlines() if line.strip()]
    telling = next((line for line in lines if "not allowed" in line), lines[-1] if lines else "")
    return git.without_password(telling) if telling else f"git {words[0]} ended with {done.returncode}"


def head_of(url: str) -> str:
    """The commit at which a repository's usual branch is. Raises YarrikError."""
    trouble = ""
    try:
        done = git.run(Path("/"), "ls-remote", "--end-of-options", url, "HEAD", protocols=PROTOCOLS, handed_over=True)
        commit = done.stdout.split("\t")[0].strip()
        if done.returncode == 0 and re.fullmatch(r"[0-9a-f]{40}(?:[0-9a-f]{24})?", commit):
            return commit
        lines = [line for line in done.stderr.splitlines() if line.strip()]
        trouble = lines[-1] if lines else "it has no branch"
    except (OSError, subprocess.TimeoutExpired) as error:
        trouble = str(error)
    raise YarrikError(
        Trouble("SOURCE-UNREACHABLE", f"{git.without_password(url)} does not answer as a repository",
                why=git.without_password(trouble), remedy="check the address and the network"),
        "work",
    )  # fmt: skip
