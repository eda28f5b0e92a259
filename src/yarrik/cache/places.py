"""Where a shared cache lies: a folder, an HTTP server that knows GET, HEAD and PUT, or an S3 store. Files by name, no more."""

from __future__ import annotations

import contextlib
import itertools
import secrets
from collections.abc import Collection, Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Any, Protocol
from urllib.parse import urlsplit

from yarrik.atomic import new_file
from yarrik.cache.pace import FIRST_SECONDS, LEAST_RATE, TooSlow, paced, within
from yarrik.cache.redirects import http_client
from yarrik.errors import Place, Trouble, YarrikError

if TYPE_CHECKING:
    import httpx

#: A connection is waited for no longer than this (seconds).
CONNECT = 5.0
_CHUNK = 1 << 18


class Absent(LookupError):
    """The place has no file of this name."""


class Unreachable(Exception):
    """The place did not answer as it should; another try may help."""


class Closed(Exception):
    """The place answered that it will not; no further try helps."""


class Storage(Protocol):
    """Files by names like `results/ab/abcd…`. All methods raise Unreachable or Closed."""

    def read(self, name: str, start: int = 0) -> Iterator[bytes]:
        """The file's bytes from `start` on. Raises Absent."""

    def has(self, name: str) -> bool: ...

    def write(self, name: str, file: Path) -> None:
        """Puts a file there; it appears whole or not at all."""


class FolderStorage:
    """A folder, perhaps of another machine."""

    def __init__(self, root: Path) -> None:
        self._root = root
        self._token = secrets.token_hex(8)
        self._numbers = itertools.count()

    def read(self, name: str, start: int = 0) -> Iterator[bytes]:
        """As `Storage.read`, from a file in the folder."""
        self._there()
        try:
            with (self._root / name).open("rb") as file:
                file.seek(start)
                while chunk := file.read(_CHUNK):
                    yield chunk
        except FileNotFoundError as error:
            raise Absent(name) from error
        except OSError as error:
            raise Unreachable(error.strerror or str(error)) from error

    def has(self, name: str) -> bool:
        """As `Storage.has`."""
        self._there()
        return (self._root / name).exists()

    def write(self, name: str, file: Path) -> None:
        """As `Storage.write`; the file appears whole or not at all."""
        self._there()
        target = self._root / name
        try:
            # Written at the top of the cache: readers list the folders below it.
            with new_file(target, None, scratch=self._root) as fresh:
                with file.open("rb") as source, fresh.open("xb") as sink:
                    while chunk := source.read(_CHUNK):
                        sink.write(chunk)
                target.parent.mkdir(parents=True, exist_ok=True)
        except PermissionError as error:
            raise Closed(f"{error.strerror}") from error
        except OSError as error:
            raise Unreachable(error.strerror or str(error)) from error

    def _there(self) -> None:
        # A network folder that is not mounted right now must not be made anew below its mount point.
        if not self._root.is_dir():
            raise Unreachable("the folder is not there")


class HttpStorage:
    """A plain HTTP server (RFC 9110); a WebDAV one makes missing folders by itself or is asked to (RFC 4918, section 9.3)."""

    def __init__(self, url: str, seconds: float, redirect_hosts: Collection[str] = ()) -> None:
        import httpx

        self._url = url.rstrip("/")
        self._seconds = seconds
        timeout = httpx.Timeout(seconds, connect=min(CONNECT, seconds))
        self._client = http_client(timeout, redirect_hosts, limits=httpx.Limits(max_connections=16))

    def read(self, name: str, start: int = 0) -> Iterator[bytes]:
        """As `Storage.read`, by a GET with a range."""
        try:
            yield from paced(lambda: self._read(name, start))
        except TooSlow as error:
            raise Unreachable(str(error)) from error

    def _read(self, name: str, start: int) -> Iterator[bytes]:
        headers = {"Accept-Encoding": "identity", **({"Range": f"bytes={start}-"} if start else {})}
        with self._said(), self._client.stream("GET", f"{self._url}/{name}", headers=headers) as answer:
            if start and answer.status_code == 416:  # nothing comes after what is here
                return
            self._check(answer, name)
            skip = start if answer.status_code != 206 else 0  # one that cannot go on begins anew
            for chunk in answer.iter_raw():
                if skip >= len(chunk):
                    skip -= len(chunk)
                    continue
                yield chunk[skip:]
                skip = 0

    def has(self, name: str) -> bool:
        """As `Storage.has`, by a HEAD."""
        with self._said():
            answer = within(self._most(0), lambda: self._client.head(f"{self._url}/{name}"))
            try:
                self._check(answer, name)
            except Absent:
                return False
            return True

    def write(self, name: str, file: Path) -> None:
        """As `Storage.write`."""
        with self._said():
            answer = self._put(name, file)
            if answer.status_code == 409:  # RFC 4918, section 9.7.1: a folder on the way there is missing
                words = name.split("/")[:-1]
                for count in range(1, len(words) + 1):
                    self._client.request("MKCOL", f"{self._url}/{'/'.join(words[:count])}/")
                answer = self._put(name, file)
            self._check(answer, name)

    def _put(self, name: str, file: Path) -> httpx.Response:
        size = file.stat().st_size

        def put() -> httpx.Response:
            with file.open("rb") as source:
                content = iter(lambda: source.read(_CHUNK), b"")
                return self._client.put(f"{self._url}/{name}", content=content, headers={"Content-Length": str(size)})

        return within(self._most(size), put)

    def _most(self, size: int) -> float:
        """Seconds that sending `count` bytes may take, with the answer."""
        return max(FIRST_SECONDS, 3 * self._seconds) + size / LEAST_RATE

    @staticmethod
    def _check(answer: httpx.Response, name: str) -> None:
        if answer.status_code in (404, 410):
            raise Absent(name)
        if answer.is_success:
            return
        said = f"it answered {answer.status_code} {answer.reason_phrase}"
        # RFC 9110, section 15: a server's own faults, and "too many requests", may pass.
        raise (Unreachable if answer.status_code >= 500 or answer.status_code in (408, 429) else Closed)(said)

    @contextlib.contextmanager
    def _said(self) -> Iterator[None]:
        import httpx

        try:
            yield
        except TooSlow as error:
            raise Unreachable(str(error)) from error
        except httpx.TooManyRedirects as error:
            raise Closed(str(error)) from error
        except httpx.HTTPError as error:
            raise Unreachable(str(error) or type(error).__name__) from error


class BucketStorage:
    """An S3 store, by the well-kept library for it, which finds credentials where people keep them."""

    def __init__(self, at: str, endpoint: str, seconds: float, place: Place) -> None:
        try:
            import boto3
            from botocore.config import Config
        except ImportError as error:
            raise YarrikError(
                Trouble("CACHE-NO-S3", f"the library for S3 stores is not installed, and {at} is one", place,
                        remedy="pip install 'yarrik[s3]'")
            ) from error  # fmt: skip
        words = urlsplit(at)
        self._bucket, self._folder = words.netloc, words.path.strip("/")
        config = Config(
            connect_timeout=min(CONNECT, seconds),
            read_timeout=seconds,
            retries={"total_max_attempts": 1},
            max_pool_connections=16,
        )
        self._client: Any = boto3.client("s3", endpoint_url=endpoint or None, config=config)

    def read(self, name: str, start: int = 0) -> Iterator[bytes]:
        """As `Storage.read`, from an object of the bucket."""
        more = {"Range": f"bytes={start}-"} if start else {}
        with self._said(name):
            yield from self._client.get_object(Bucket=self._bucket, Key=self._key(name), **more)["Body"].iter_chunks(_CHUNK)

    def has(self, name: str) -> bool:
        """As `Storage.has`."""
        try:
            with self._said(name):
                self._client.head_object(Bucket=self._bucket, Key=self._key(name))
        except Absent:
            return False
        return True

    def write(self, name: str, file: Path) -> None:
        """As `Storage.write`, as an object of the bucket."""
        with self._said(name):
            self._client.upload_file(str(file), self._bucket, self._key(name))

    def _key(self, name: str) -> str:
        return f"{self._folder}/{name}" if self._folder else name

    @contextlib.contextmanager
    def _said(self, name: str) -> Iterator[None]:
        from boto3.exceptions import Boto3Error
        from botocore.exceptions import BotoCoreError, ClientError

        try:
            yield
        except ClientError as error:
            status = int(error.response.get("ResponseMetadata", {}).get("HTTPStatusCode", 0))
            said = str(error.response.get("Error", {}).get("Message") or error)
            if status == 416:  # nothing comes after what is here
                return
            if status == 404 and error.response.get("Error", {}).get("Code") != "NoSuchBucket":
                raise Absent(name) from error
            raise (Unreachable if status >= 500 or status == 429 else Closed)(said) from error
        except (BotoCoreError, Boto3Error) as error:
            raise Unreachable(str(error)) from error


def is_network(at: str) -> bool:
    """Whether the place is asked over a network protocol; a folder is not, wherever it lies."""
    return urlsplit(at).scheme in ("http", "https", "s3")


def storage_at(at: str, endpoint: str, seconds: float, place: Place, redirect_hosts: Collection[str] = ()) -> Storage:
    """The place of this name, which has `seconds` to answer. Raises YarrikError for one that cannot be."""
    scheme = urlsplit(at).scheme
    if scheme in ("http", "https"):
        return HttpStorage(at, seconds, redirect_hosts)
    if scheme == "s3":
        return BucketStorage(at, endpoint, seconds, place)
    if scheme and not at.startswith("/"):
        raise YarrikError(
            Trouble("CACHE-PLACE", f"`{at}` is not a place for a shared cache", place,
                    remedy="name a folder, an http:// or https:// URL, or s3://BUCKET/FOLDER")
        )  # fmt: skip
    return FolderStorage(Path(at).expanduser())
