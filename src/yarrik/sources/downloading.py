"""Downloads over HTTP: from one place after the other, going on where a try ended; nothing counts without its digest."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Collection, Sequence
from pathlib import Path
from urllib.parse import urlsplit

from yarrik.cache import Store, TooSlow, file_digest, http_client, paced, within
from yarrik.errors import NOWHERE, Place, Trouble, YarrikError
from yarrik.sources.git import without_password

#: Seconds to wait for a connection, and for the next bytes of one.
CONNECT, READ = 20.0, 60.0
TRIES = 3
#: No source is larger than this (bytes).
LARGEST = 64 << 30


#: Told how many bytes have come, and how many there are as far as the server tells.
Tell = Callable[[int, int | None], None]


def download(
    urls: Sequence[str],
    sha256: str,
    store: Store,
    say: Callable[[str], None],
    place: Place = NOWHERE,
    tell: Tell = lambda have, total: None,
    redirect_hosts: Collection[str] = (),
    remedy: str = "check the address and the network, or add `mirrors`; what came so far is kept",
    asked_by: str = "the recipe",
) -> None:
    """Takes a file into the store: from the first of the URLs that has it with this digest. TLS certificates are checked, and
    redirects stay on their host, or go to `redirect_hosts`.

    Raises YarrikError with what each place answered."""
    import httpx
    import tenacity

    tries = tenacity.Retrying(
        # What a server refuses, and redirects in a circle, come out the same when asked again.
        retry=tenacity.retry_if_exception(
            lambda error: (
                isinstance(error, (httpx.HTTPError, OSError, TooSlow)) and not isinstance(error, httpx.TooManyRedirects)
            )
        ),
        stop=tenacity.stop_after_attempt(TRIES),
        reraise=True,
    )
    part = store.root / "downloads" / f"{sha256}.part"
    store.make_folder(part.parent)
    answers: list[str] = []
    wrong = ""
    with http_client(httpx.Timeout(READ, connect=CONNECT), redirect_hosts) as client:
        for url in urls:
            try:
                tries(_receive, client, url, part, say, tell)
            except (_Refused, httpx.HTTPError, OSError, TooSlow) as error:
                answers.append(f"{_host(url)}: {str(error) or type(error).__name__}")
                continue
            digest = file_digest(part)
            if digest == sha256:
                store.put_file(part, move=True)
                part.unlink(missing_ok=True)
                return
            part.unlink()
            wrong = digest
            answers.append(f"{_host(url)}: it has SHA-256 {digest}")
    if wrong:
        by_recipe = asked_by == "the recipe"
        how = "was written for" if by_recipe else "names"
        raise YarrikError(
            Trouble("SOURCE-DIGEST", f"what was downloaded has SHA-256 {wrong}, and {asked_by} asks for {sha256}", place,
                    why=f"it is not the file that {asked_by} {how}\n" + "\n".join(answers),
                    remedy="if the new file is the right one, correct the digest" if by_recipe
                    else "try again later: the server may be in the middle of an update"),
            "work",
        )  # fmt: skip
    raise YarrikError(
        Trouble("SOURCE-UNREACHABLE", f"{urlsplit(urls[0]).path.rpartition('/')[2] or urls[0]} cannot be downloaded", place,
                why="\n".join(answers), remedy=remedy),
        "work",
    )  # fmt: skip


class _Refused(Exception):
    """The server answered, and not with the file."""


def _receive(client, url: str, part: Path, say: Callable[[str], None], tell: Tell) -> None:  # type: ignore[no-untyped-def]
    """Appends what is missing to the part (RFC 9110, section 14: range requests), or begins anew where a server cannot."""
    have = part.stat().st_size if part.exists() else 0
    headers = {"Accept-Encoding": "identity", **({"Range": f"bytes={have}-"} if have else {})}
    request = client.build_request("GET", url, headers=headers)
    with contextlib.closing(within(2 * READ, lambda: client.send(request, stream=True))) as answer:
        if answer.status_code == 416:  # nothing is left to send: the part is whole, or of another file
            part.unlink(missing_ok=True)
            raise _Again
        if answer.status_code not in (200, 206):
            raise _Refused(f"answered {answer.status_code} {answer.reason_phrase}")
        goes_on = answer.status_code == 206
        say(f"{without_password(url)}: {'going on at byte ' + str(have) if goes_on else 'from the beginning'}")
        length = answer.headers.get("content-length", "")
        total = int(length) + (have if goes_on else 0) if length.isdecimal() else None
        with part.open("ab" if goes_on else "wb") as sink:
            for chunk in paced(answer.iter_raw):  # as it comes: what was received counts even if the rest does not come
                sink.write(chunk)
                tell(sink.tell(), total)
                if sink.tell() > LARGEST:
                    raise _Refused(f"it sends more than {LARGEST >> 30} GiB")


class _Again(OSError):
    """The next try may work."""


def digest_of_url(url: str, folder: Path, redirect_hosts: Collection[str] = ()) -> tuple[str, int]:
    """SHA-256 and size of what a URL gives, for the line in a recipe. Raises YarrikError."""
    import httpx

    part = folder / "part"
    try:
        with http_client(httpx.Timeout(READ, connect=CONNECT), redirect_hosts) as client:
            _receive(client, url, part, lambda text: None, lambda have, total: None)
    except (httpx.HTTPError, httpx.InvalidURL, OSError, _Refused, TooSlow) as error:
        raise YarrikError(Trouble("SOURCE-UNREACHABLE", f"{without_password(url)} cannot be downloaded: {error}",
                                  remedy="check the address and the network"), "work") from error  # fmt: skip
    return file_digest(part), part.stat().st_size


def reachable(urls: Sequence[str], redirect_hosts: Collection[str] = ()) -> str:
    """Whether one of the URLs answers as if it had the file, without taking it: an empty text, else what each of them said."""
    import httpx

    said = []
    with http_client(httpx.Timeout(CONNECT), redirect_hosts) as client:
        for url in urls:
            try:
                # A range of one byte (RFC 9110, section 14): servers answer HEAD less reliably than GET.
                request = client.build_request("GET", url, headers={"Accept-Encoding": "identity", "Range": "bytes=0-0"})
                with contextlib.closing(within(CONNECT, lambda: client.send(request, stream=True))) as answer:  # noqa: B023
                    if answer.status_code in (200, 206):
                        return ""
                    said.append(f"{_host(url)}: answered {answer.status_code} {answer.reason_phrase}")
            except (httpx.HTTPError, httpx.InvalidURL, OSError, TooSlow) as error:
                said.append(f"{_host(url)}: {str(error) or type(error).__name__}")
    return "\n".join(said)


def receive_small(url: str, most: int, redirect_hosts: Collection[str] = ()) -> bytes:
    """What a URL gives, of at most `most` bytes, all in memory. Raises YarrikError."""
    import httpx

    data = b""
    try:
        with http_client(httpx.Timeout(READ, connect=CONNECT), redirect_hosts) as client:
            request = client.build_request("GET", url, headers={"Accept-Encoding": "identity"})
            with contextlib.closing(within(2 * READ, lambda: client.send(request, stream=True))) as answer:
                if answer.status_code != 200:
                    raise _Refused(f"answered {answer.status_code} {answer.reason_phrase}")
                for chunk in paced(answer.iter_raw):
                    data += chunk
                    if len(data) > most:
                        raise _Refused(f"it sends more than {most >> 20} MiB")
    except (httpx.HTTPError, httpx.InvalidURL, OSError, _Refused, TooSlow) as error:
        raise YarrikError(Trouble("SOURCE-UNREACHABLE", f"{without_password(url)} cannot be downloaded: {error}",
                                  remedy="check the address and the network"), "work") from error  # fmt: skip
    return data


def _host(url: str) -> str:
    return urlsplit(url).netloc.rpartition("@")[2] or url
