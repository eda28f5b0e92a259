"""Time limits for servers of others: a least rate and an end, however slowly they dribble.

A pause limit alone lets a server send a byte a minute for days. So the reading is done by a thread of its own, and the one who
waits for its pieces gives up when too few have come; the thread ends by itself at its next piece or pause.
"""

from __future__ import annotations

import queue
import threading
import time
from collections.abc import Callable, Iterator
from typing import TypeVar

#: Bytes a second that have to come on average, once the first seconds are over.
LEAST_RATE = 1024
FIRST_SECONDS = 30.0
#: Pieces that are read ahead.
_AHEAD = 8

T = TypeVar("T")


class TooSlow(Exception):
    """Less came than has to."""


def paced(chunks: Callable[[], Iterator[bytes]], first: float = FIRST_SECONDS, rate: int = LEAST_RATE) -> Iterator[bytes]:
    """The pieces of `chunks()`, as long as they come with at least `rate` bytes a second after the first `first` seconds.
    Raises TooSlow, and what `chunks` raises."""
    tray: queue.Queue[bytes | BaseException | None] = queue.Queue(_AHEAD)
    given_up = threading.Event()

    def read() -> None:
        try:
            for chunk in chunks():
                while not given_up.is_set():
                    try:
                        tray.put(chunk, timeout=1.0)
                        break
                    except queue.Full:
                        continue
                if given_up.is_set():
                    return
            tray.put(None)
        except BaseException as error:  # passed on to the waiting thread
            if not given_up.is_set():
                tray.put(error)

    threading.Thread(target=read, name="paced", daemon=True).start()
    spent = received = 0.0
    try:
        while True:
            # Only the waiting counts, not what is done with the pieces.
            began = time.monotonic()
            left = first + received / rate - spent
            try:
                piece = tray.get(timeout=max(0.01, left))
            except queue.Empty:
                raise TooSlow(f"it sends less than {rate} bytes a second") from None
            spent += time.monotonic() - began
            if piece is None:
                return
            if isinstance(piece, BaseException):
                raise piece
            received += len(piece)
            yield piece
    finally:
        given_up.set()


def within(seconds: float, work: Callable[[], T]) -> T:
    """What `work` returns, if it takes no longer than `seconds`. Raises TooSlow, and what `work` raises."""
    done: queue.Queue[tuple[T | None, BaseException | None]] = queue.Queue(1)

    def run() -> None:
        try:
            done.put((work(), None))
        except BaseException as error:  # passed on to the waiting thread
            done.put((None, error))

    threading.Thread(target=run, name="within", daemon=True).start()
    try:
        value, error = done.get(timeout=seconds)
    except queue.Empty:
        raise TooSlow(f"it did not answer within {seconds:.0f} seconds") from None
    if error is not None:
        raise error
    return value  # type: ignore[return-value]
