"""Finds source packages in Debian archives: a suite's signed `InRelease`, its index `Sources`, and what that says of a package.

The form of an archive is that of Debian's repository format; the files are deb822(5), their fields those of
deb-src-control(5)."""

from __future__ import annotations

import base64
import binascii
import bz2
import contextlib
import gzip
import lzma
import os
import re
import subprocess
import tempfile
from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import msgspec

from yarrik.cache import Store
from yarrik.errors import NOWHERE, Place, Trouble, Unfit, YarrikError
from yarrik.host import find_program
from yarrik.patterns import lazy_pattern
from yarrik.sources.downloading import download, receive_small
from yarrik.sources.git import without_password
from yarrik.toolchain import missing_program
from yarrik.units import shown_size

#: How the address of an archive's file begins in a plan: which archives there are is a matter of the machine.
DEBIAN_SCHEME = "debian:/"
#: No InRelease, and no index of sources when it is expanded, is larger (bytes).
LARGEST_RELEASE, LARGEST_INDEX = 8 << 20, 1 << 30
#: Forms of an index that are read, the smallest first.
_FORMS = ("xz", "bz2", "gz", "")
#: What packagers add to an upstream version whose archive they made again.
_REPACKED = lazy_pattern(r"[+.~-]?(?:dfsg|ds|repack)[0-9.+~a-z]*\Z")
_SAFE_NAME = lazy_pattern(r"[A-Za-z0-9][A-Za-z0-9.+~%:_-]*\Z")
_SAFE_FOLDER = lazy_pattern(r"[A-Za-z0-9][A-Za-z0-9.+~_/-]*\Z")
_PACKAGE = lazy_pattern(r"[a-z0-9][a-z0-9.+-]+\Z")
_VERSION = lazy_pattern(r"(?:[0-9]+:)?[0-9][A-Za-z0-9.+~-]*\Z")
_DIGEST = lazy_pattern(r"[0-9a-f]{64}\Z")
_BEGIN, _SIGNATURE, _END = (
    b"-----BEGIN PGP SIGNED MESSAGE-----", b"-----BEGIN PGP SIGNATURE-----", b"-----END PGP SIGNATURE-----",
)  # fmt: skip


class Archive(msgspec.Struct, frozen=True):
    """A suite of an archive: its address without a slash at the end, and where its keys are: files of OpenPGP keys, binary or
    armoured, or an armoured text. An `unsigned` one is taken as it is; so is one that has `expired`."""

    url: str
    suite: str
    components: tuple[str, ...]
    keyrings: tuple[Path, ...] = ()
    keys: str = ""
    unsigned: bool = False
    expired: bool = False

    def __str__(self) -> str:
        return f"{without_password(self.url)} {self.suite}"


class SourcePackage(msgspec.Struct, frozen=True):
    """A source package as an index names it: Debian's whole version, the folder below the archive's address, and its files with
    their SHA-256 digests."""

    name: str
    version: str
    folder: str
    files: Mapping[str, str]

    @property
    def dsc(self) -> str:
        """The name of the file that describes it."""
        return next(name for name in self.files if name.endswith(".dsc"))


def upstream_version(version: str) -> str:
    """The version that upstream gave: without epoch, Debian's revision, and the mark of an archive that was made again.
    `1:1.2.13.dfsg-1` is 1.2.13 (deb-version(7))."""
    plain = version.partition(":")[2] if ":" in version else version
    plain = plain.rpartition("-")[0] if "-" in plain else plain
    return _REPACKED.sub("", plain)


def checked_package(name: str, version: str, folder: str, files: Mapping[str, str]) -> SourcePackage:
    """A source package whose parts can be parts of an address and a path. Raises Unfit with what cannot."""
    if not _PACKAGE.match(name) or not _VERSION.match(version):
        raise Unfit(f"{name!r} {version!r} is no name and version of a package")
    if not _SAFE_FOLDER.match(folder) or any(part in ("", ".", "..") for part in folder.split("/")):
        raise Unfit(f"{folder!r} is no folder of an archive")
    for file, digest in files.items():
        if not _SAFE_NAME.match(file):
            raise Unfit(f"{file!r} is no name of a file")
        if not _DIGEST.match(digest):
            raise Unfit(f"{file} has no SHA-256 digest")
    if sum(file.endswith(".dsc") for file in files) != 1:
        raise Unfit("it does not name one .dsc")
    return SourcePackage(name, version, folder, dict(sorted(files.items())))


def with_addresses(urls: Sequence[str], archives: Callable[[], Sequence[Archive]]) -> tuple[str, ...]:
    """Addresses, with each file of a Debian archive at every archive that is known."""
    if not any(url.startswith(DEBIAN_SCHEME) for url in urls):
        return tuple(urls)
    bases = dict.fromkeys(one.url for one in archives())
    found: list[str] = []
    for url in urls:
        path = url.removeprefix(DEBIAN_SCHEME)
        found += [f"{base}/{path}" for base in bases] if path != url else [url]
    return tuple(found)


class Archives(msgspec.Struct):
    """The archives that are looked into, with what was read of them."""

    archives: Sequence[Archive]
    store: Store
    say: Callable[[str], None] = lambda text: None
    redirect_hosts: Collection[str] = ()
    #: What was said where an archive could not be asked.
    failures: list[Trouble] = msgspec.field(default_factory=list)
    _indexes: list[bytes] | None = None

    def find(self, package: str, asked: str, exact: bool, place: Place = NOWHERE) -> SourcePackage:
        """The newest version of a package that is `asked`: Debian's own version if `exact`, else what upstream calls it.
        Raises YarrikError, with the versions that there are, or when an archive that may have a newer one cannot be asked."""
        found = self.known(package, place)
        if self.failures and not exact:
            # The newest revision may be in the one that does not answer: without it, an old one would be locked unseen.
            raise YarrikError(self.failures, "work")
        fitting = [one for one in found if (one.version if exact else upstream_version(one.version)) == asked]
        if not fitting:
            known = ", ".join(one.version for one in found[:8])
            raise YarrikError(
                Trouble("SOURCE-VERSION-UNKNOWN", f"no Debian archive has version {asked} of `{package}`", place,
                        why=f"it is there as {known}",
                        remedy=f'write `version = "{upstream_version(found[0].version)}"` for the recipe, or name an archive '
                               "that has the other: [[debian-archive]] in the settings")
            )  # fmt: skip
        return fitting[0]

    def known(self, package: str, place: Place = NOWHERE) -> list[SourcePackage]:
        """All that the archives have of a package, the newest first. Raises YarrikError when there is none."""
        found = self.versions(package)
        if found:
            return found
        looked = ["looked into:", *(f"  {one}" for one in self.archives), *(one.what for one in self.failures)]
        raise YarrikError(
            Trouble("SOURCE-PACKAGE-UNKNOWN", f"no Debian archive has a source package `{package}`", place,
                    why="\n".join(looked),
                    remedy="correct the name (a source package may be called otherwise than its library), or name an "
                           "archive that has it: [[debian-archive]] in the settings")
        )  # fmt: skip

    def versions(self, package: str) -> list[SourcePackage]:
        """All that the archives have of a package, the newest first. Raises YarrikError when none could be asked."""
        from debian.debian_support import NativeVersion

        if self._indexes is None:
            self._indexes = self._read_indexes()
        found: dict[str, SourcePackage] = {}
        for data in self._indexes:
            for one in _in_index(data, package):
                found.setdefault(one.version, one)
        return sorted(found.values(), key=lambda one: NativeVersion(one.version), reverse=True)

    def source_of(self, binary: str) -> str:
        """The name of the source package that a binary package is built from; empty if no archive has one."""
        if self._indexes is None:
            self._indexes = self._read_indexes()
        line = b"\n " + binary.encode() + b" deb "
        for data in self._indexes:
            at = data.find(line)
            if at >= 0:
                first = data.rfind(b"\n\n", 0, at) + 2
                match = re.match(rb"(?:.*\n){0,40}?Package: ([a-z0-9][a-z0-9.+-]+)\n", data[first:at] + b"\n")
                return match[1].decode() if match else ""
        return ""

    def _read_indexes(self) -> list[bytes]:
        if not self.archives:
            raise YarrikError(
                Trouble("SOURCE-ARCHIVES", "no Debian archive is known",
                        why="neither the settings nor this machine's package manager name one",
                        remedy='[[debian-archive]] in the settings: url = "http://deb.example.org/debian", suites, keyring')
            )  # fmt: skip
        indexes: list[bytes] = []
        self.failures.clear()
        for archive in self.archives:
            try:
                indexes += self._of(archive)
            except YarrikError as error:
                self.failures += error.troubles
        if not indexes:
            raise YarrikError(
                self.failures or Trouble("SOURCE-INDEX", "none of the Debian archives has an index of sources",
                                         why="\n".join(map(str, self.archives)),
                                         remedy="name one that has sources: [[debian-archive]] in the settings"),
                "work",
            )  # fmt: skip
        return indexes

    def _of(self, archive: Archive) -> Iterator[bytes]:
        """The indexes of sources of one suite, expanded; of a suite that has none, nothing."""
        from debian.deb822 import Release

        at = f"{archive.url}/dists/{archive.suite}"
        self.say(f"{archive}: asking for its index of sources")
        text = receive_small(f"{at}/InRelease", LARGEST_RELEASE, self.redirect_hosts)
        release = _parsed(Release, text if archive.unsigned else signed_text(text, archive), archive)
        names = {str(release.get(key, "")) for key in ("Suite", "Codename")} - {""}
        if names and archive.suite not in names:
            # The keys of an archive sign all of its suites: an older one must not be taken for this.
            raise _unfit_index(str(archive), f"it is the index of {' or '.join(sorted(names))}")
        _check_age(str(release.get("Valid-Until", "")), archive)
        known = {str(one["name"]): str(one["sha256"]) for one in release.get("SHA256", ())}
        by_digest = str(release.get("Acquire-By-Hash", "")).lower() == "yes"
        for component in archive.components:
            for form in _FORMS:
                name = f"{component}/source/Sources" + (f".{form}" if form else "")
                digest = known.get(name, "")
                if not _DIGEST.match(digest):
                    continue
                # By its digest first: the archive may be in the middle of an update.
                urls = [*([f"{at}/{component}/source/by-hash/SHA256/{digest}"] if by_digest else []), f"{at}/{name}"]
                if not self.store.has(digest):
                    download(urls, digest, self.store, self.say, redirect_hosts=self.redirect_hosts,
                             asked_by="the archive's signed index")  # fmt: skip
                yield expanded_index(self.store.get_bytes(digest), form, str(archive))
                break


def _check_age(until: str, archive: Archive) -> None:
    """Raises YarrikError for an index that says itself that it is too old: the server may keep newer ones back."""
    from email.utils import parsedate_to_datetime

    if not until or archive.expired:
        return
    try:
        end = parsedate_to_datetime(until)
    except ValueError as error:
        raise _unfit_index(str(archive), f"`Valid-Until: {until}` is no date") from error
    if end.tzinfo is None:
        end = end.replace(tzinfo=UTC)
    if end < datetime.now(UTC):
        raise YarrikError(
            Trouble("SOURCE-INDEX-OLD", f"the index of {archive} was valid until {end.astimezone(UTC):%Y-%m-%d %H:%M}",
                    why="an old index, signed as it is, hides newer versions with their security fixes",
                    remedy="name a mirror that is kept current, or set `expired = true` for an archive of a past day: "
                    "[[debian-archive]] in the settings; look at this machine's clock, too"),
            "work",
        )  # fmt: skip


def _in_index(data: bytes, package: str) -> Iterator[SourcePackage]:
    """The paragraphs of a package. Only these are parsed: an index has tens of thousands."""
    from debian.deb822 import Sources

    head = b"Package: " + package.encode() + b"\n"
    start = data.find(head)
    while start >= 0:
        if start == 0 or data[start - 1 : start] == b"\n":
            before = data.rfind(b"\n\n", 0, start)
            first = before + 2 if before >= 0 else 0
            end = data.find(b"\n\n", start)
            paragraph = Sources(data[first : end if end >= 0 else len(data)].decode("utf-8", "replace"))
            with contextlib.suppress(Unfit, KeyError, TypeError):
                files = {str(one["name"]): str(one["sha256"]) for one in paragraph["Checksums-Sha256"]}
                if str(paragraph["Package"]) == package:
                    yield checked_package(package, str(paragraph["Version"]), str(paragraph["Directory"]), files)
        start = data.find(head, start + 1)


def expanded_index(data: bytes, form: str, shown: str) -> bytes:
    """An index as text, of at most LARGEST_INDEX bytes. Raises YarrikError for one that does not expand."""
    import io

    openers: dict[str, Callable[[io.BytesIO], Any]] = {"xz": lzma.LZMAFile, "bz2": bz2.BZ2File,
                                                       "gz": lambda file: gzip.GzipFile(fileobj=file)}  # fmt: skip
    try:
        text = data if not form else openers[form](io.BytesIO(data)).read(LARGEST_INDEX + 1)
    except (OSError, EOFError, lzma.LZMAError, ValueError) as error:
        raise _unfit_index(shown, f"it does not expand: {error}") from error
    if len(text) > LARGEST_INDEX:
        raise _unfit_index(shown, f"it expands to more than {shown_size(LARGEST_INDEX)}")
    return bytes(text)


def _parsed(kind: Any, text: bytes, archive: Archive) -> Any:
    try:
        return kind(text.decode("utf-8", "replace"))
    except ValueError as error:
        raise _unfit_index(str(archive), str(error)) from error


def _unfit_index(shown: str, why: str) -> YarrikError:
    return YarrikError(
        Trouble("SOURCE-INDEX", f"the index of {shown} cannot be read", why=why,
                remedy="try again later, or name another archive: [[debian-archive]] in the settings"),
        "work",
    )  # fmt: skip


def signed_text(data: bytes, archive: Archive) -> bytes:
    """What one of the archive's keys has signed of a clear-signed text (RFC 9580, section 7). Raises YarrikError for a text
    that none of them signed, or that says more than what is signed."""
    gpgv = find_program("gpgv")
    if gpgv is None:
        raise YarrikError(missing_program("gpgv", NOWHERE, f"it checks who signed the index of {archive}"))
    whole = data.strip()
    if not whole.startswith(_BEGIN) or not whole.endswith(_END) or whole.count(_BEGIN) != 1 or whole.count(_SIGNATURE) != 1:
        raise _unsigned(archive, "it is not one signed text and nothing else")
    with tempfile.TemporaryDirectory(prefix="yarrik-") as scratch:
        folder = Path(scratch)
        (folder / "text").write_bytes(whole + b"\n")
        try:
            rings = [one.read_bytes() for one in archive.keyrings] + ([archive.keys.encode()] if archive.keys else [])
        except OSError as error:
            raise _unsigned(archive, f"its keyring cannot be read: {error.filename}: {error.strerror}") from error
        words = [gpgv, "--status-fd", "1", "--output", str(folder / "signed")]
        for number, ring in enumerate(rings):
            (folder / f"{number}.gpg").write_bytes(binary_keys(ring))
            words += ["--keyring", str(folder / f"{number}.gpg")]
        if not rings:
            raise _unsigned(archive, "no keyring is named for it")
        environment = {"PATH": os.environ.get("PATH", ""), "LC_ALL": "C", "HOME": scratch, "GNUPGHOME": scratch}
        done = subprocess.run([*words, str(folder / "text")], capture_output=True, env=environment, check=False)
        # The exit code is an error too when one of several keys is not in the keyring.
        said = {line.split(b" ")[1] for line in done.stdout.splitlines() if line.startswith(b"[GNUPG:] ") and b" " in line[9:]}
        if b"VALIDSIG" not in said or b"BADSIG" in said:
            reason = (done.stderr.decode("utf-8", "replace").strip().splitlines() or ["no good signature"])[-1]
            raise _unsigned(archive, reason)
        return (folder / "signed").read_bytes()


def _unsigned(archive: Archive, why: str) -> YarrikError:
    return YarrikError(
        Trouble("SOURCE-UNSIGNED", f"the index of {archive} is not signed by a key that counts for it", why=why,
                remedy="name the right keyring: `keyring` of [[debian-archive]] in the settings, or find out who answers"),
        "work",
    )  # fmt: skip


def binary_keys(ring: bytes) -> bytes:
    """Keys without their ASCII armour, if they have one (RFC 9580, section 6.2). Raises YarrikError for a damaged one."""
    if not ring.lstrip().startswith(b"-----BEGIN PGP PUBLIC KEY BLOCK-----"):
        return ring
    found = b""
    for block in ring.split(b"-----BEGIN PGP PUBLIC KEY BLOCK-----")[1:]:
        lines = block.partition(b"-----END PGP")[0].splitlines()
        # Headers end with an empty line; a line that begins with `=` is the checksum.
        body = lines[next((n for n, line in enumerate(lines[1:], 1) if not line.strip()), 0) + 1 :]
        try:
            found += base64.b64decode(b"".join(line.strip() for line in body if not line.startswith(b"=")), validate=True)
        except binascii.Error as error:
            raise YarrikError(Trouble("SOURCE-UNSIGNED", f"a keyring is damaged: {error}", remedy="take it anew")) from error
    return found
