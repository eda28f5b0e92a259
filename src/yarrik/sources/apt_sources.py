"""Which archives this machine's package manager uses: sources.list(5), in its one-line form and in deb822(5)."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

from yarrik.patterns import lazy_pattern
from yarrik.sources.debian_archive import Archive

_LINE = lazy_pattern(r"(deb|deb-src)\s+(?:\[([^\]]*)\]\s*)?(\S+)\s+(\S+)((?:\s+[^\s#]+)*)\s*(?:#.*)?\Z")
_NO = ("no", "false", "0")
_ARMOUR = "-----BEGIN PGP PUBLIC KEY BLOCK-----"


def apt_archives(root: Path = Path("/")) -> list[Archive]:
    """The archives of apt's configuration below `root`. Those that are marked as having sources if any are, else all for which
    apt has a list; without lists, all. What cannot be read is left out: apt itself says what is wrong there."""
    folder = root / "etc/apt"
    rings = (folder / "trusted.gpg", *sorted((folder / "trusted.gpg.d").glob("*")))
    usual = tuple(path for path in rings if path.suffix in (".gpg", ".asc") and path.is_file())
    found: list[tuple[bool, Archive]] = []
    listed = sorted((folder / "sources.list.d").glob("*"))
    for file in (folder / "sources.list", *(one for one in listed if one.suffix in (".list", ".sources"))):
        try:
            text = file.read_text(encoding="utf-8")
        except (OSError, UnicodeDecodeError):
            continue
        found += _stanzas(text, usual, root) if file.suffix == ".sources" else _lines(text, usual, root)
    marked = [archive for has_sources, archive in found if has_sources]
    if marked:
        return list(dict.fromkeys(marked))
    every = list(dict.fromkeys(archive for _, archive in found))
    lists = {path.name for path in (root / "var/lib/apt/lists").glob("*Release")}
    return [one for one in every if f"{_list_name(one)}_InRelease" in lists or f"{_list_name(one)}_Release" in lists] or every


def _list_name(archive: Archive) -> str:
    """How apt calls its copy of a suite's files."""
    return f"{archive.url.partition('://')[2]}/dists/{archive.suite}".replace("/", "_")


def _lines(text: str, usual: tuple[Path, ...], root: Path) -> Iterator[tuple[bool, Archive]]:
    for line in text.splitlines():
        match = _LINE.match(line.strip())
        if match is None:
            continue
        kind, options, url, suite, components = match.groups()
        named = dict(word.split("=", 1) for word in (options or "").split() if "=" in word)
        rings = named.get("signed-by", "").split(",") if named.get("signed-by") else []
        expired = named.get("check-valid-until", "yes").lower() in _NO
        yield from _archives(kind == "deb-src", [url], [suite], components.split(), rings, "", usual, root, expired)


def _stanzas(text: str, usual: tuple[Path, ...], root: Path) -> Iterator[tuple[bool, Archive]]:
    from debian.deb822 import Deb822

    for stanza in Deb822.iter_paragraphs(text.splitlines(keepends=True), use_apt_pkg=False):
        fields = {str(key).lower(): str(value) for key, value in stanza.items()}
        if fields.get("enabled", "yes").strip().lower() in _NO:
            continue
        signed = fields.get("signed-by", "")
        # Lines of a value begin with a blank, and an empty one is a dot (deb822(5)).
        keys = (
            "\n".join("" if line.strip() == "." else line.strip() for line in signed.splitlines()) if _ARMOUR in signed else ""
        )
        yield from _archives("deb-src" in fields.get("types", "").split(), fields.get("uris", "").split(),
                             fields.get("suites", "").split(), fields.get("components", "").split(),
                             [] if keys else signed.replace(",", " ").split(), keys, usual, root,
                             fields.get("check-valid-until", "yes").strip().lower() in _NO)  # fmt: skip


def _archives(
    has_sources: bool, urls: list[str], suites: list[str], components: list[str], rings: list[str], keys: str,
    usual: tuple[Path, ...], root: Path, expired: bool,
) -> Iterator[tuple[bool, Archive]]:  # fmt: skip
    keyrings = tuple(root / one.lstrip("/") for one in rings if one.startswith("/"))
    for url in urls:
        for suite in suites:
            # A suite that is a path has no components, and no index of the usual form.
            if url.startswith(("http://", "https://")) and components and not suite.endswith("/"):
                trusted = keyrings if rings or keys else usual
                yield has_sources, Archive(url.rstrip("/"), suite, tuple(components), trusted, keys, expired=expired)
