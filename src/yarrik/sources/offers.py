"""What the places that sources come from offer now: versions by the tags of a repository, or by the files beside one."""

from __future__ import annotations

import re
import subprocess
from collections.abc import Collection, Iterable, Iterator
from pathlib import Path
from urllib.parse import unquote, urljoin

import msgspec

from yarrik.errors import Trouble, Unfit, YarrikError
from yarrik.patterns import lazy_pattern
from yarrik.sources import git
from yarrik.sources.downloading import receive_small
from yarrik.sources.repository import PROTOCOLS
from yarrik.versions import Version

#: A listing of a folder is not larger than this (bytes).
LARGEST_LISTING = 16 << 20
_HREF = lazy_pattern(r"""href\s*=\s*["']?([^"'\s>]+)""", re.IGNORECASE)
_TAG = lazy_pattern(r"[^0-9]*(?P<version>[0-9][0-9A-Za-z.+~-]*)\Z")
_VERSION = lazy_pattern(r"(?P<version>[0-9][0-9A-Za-z.+~-]*)\Z")
_COMMIT = lazy_pattern(r"[0-9a-f]{40}(?:[0-9a-f]{24})?\Z")


class Offered(msgspec.Struct, frozen=True):
    """A version that can be had, and where: a commit, an address, or Debian's own version."""

    version: str
    detail: str


def newer(offers: Iterable[Offered], than: str) -> Offered | None:
    """The newest of versions after `than`. What leads to a release (2.0-rc1) counts only for one that does so itself."""
    have = Version(than)
    best: tuple[Version, Offered] | None = None
    for one in offers:
        try:
            version = Version(one.version)
        except Unfit:
            continue
        if version.leads_to_a_release and not have.leads_to_a_release:
            continue
        if version > have and (best is None or version > best[0]):
            best = version, one
    return best[1] if best is not None else None


def tagged(url: str, version: str) -> list[Offered]:
    """Versions by the tags of a repository, with the commits that these lead to. Where a tag of the present `version` is there,
    others count that are written like it. Raises YarrikError."""
    try:
        done = git.run(
            Path("/"), "ls-remote", "--tags", "--end-of-options", url, protocols=PROTOCOLS, handed_over=True, seconds=300
        )
        trouble = done.stderr.strip().splitlines()[-1:] if done.returncode else []
    except (OSError, subprocess.TimeoutExpired) as error:
        trouble = [str(error)]
    if trouble:
        raise YarrikError(
            Trouble("SOURCE-UNREACHABLE", f"{git.without_password(url)} does not list its tags",
                    why=git.without_password(trouble[0]), remedy="check the address and the network"),
            "work",
        )  # fmt: skip
    commits: dict[str, str] = {}
    for line in done.stdout.splitlines():
        commit, _, name = line.partition("\t")
        tag = name.removeprefix("refs/tags/")
        # What an annotated tag leads to comes after it, with these signs at the end of its name (gitrevisions(7)).
        if _COMMIT.match(commit):
            commits[tag.removesuffix("^{}")] = commit
    before = next((tag.removesuffix(version) for tag in commits if tag.endswith(version) and version), None)
    found = []
    for tag, commit in sorted(commits.items()):
        match = (
            _TAG.match(tag) if before is None else re.match(re.escape(before) + r"(?P<version>[0-9][0-9A-Za-z.+~-]*)\Z", tag)
        )
        if match is not None:
            found.append(Offered(match["version"], commit))
    return found


def listed_beside(url: str, version: str, redirect_hosts: Collection[str] = ()) -> list[Offered]:
    """Versions by the files that a folder's listing names beside a file of the present `version`, with their addresses. Raises
    YarrikError."""
    folder, _, name = url.rpartition("/")
    if version not in name:
        return []
    before, _, after = name.partition(version)
    form = re.compile(re.escape(before) + r"([0-9][0-9A-Za-z.+~-]*?)" + re.escape(after) + r"\Z")
    page = receive_small(f"{folder}/", LARGEST_LISTING, redirect_hosts).decode("utf-8", "replace")
    return list(_in_listing(page, f"{folder}/", form))


def _in_listing(page: str, folder: str, form: re.Pattern[str]) -> Iterator[Offered]:
    for target in dict.fromkeys(_HREF.findall(page)):
        address = urljoin(folder, target.partition("?")[0].partition("#")[0])
        # Only files right in this folder: a page may name any place.
        if address.startswith(folder) and "/" not in (name := unquote(address[len(folder) :])):
            match = form.match(name)
            if match is not None:
                yield Offered(match[1], folder + name)
