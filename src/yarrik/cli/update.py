"""`yarrik update`: bundles that bring a board from one version of a product to the next, and boards that files stand for."""

from __future__ import annotations

import os
import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, BinaryIO

import typer

from yarrik.cli import app
from yarrik.cli.options import JsonOption
from yarrik.errors import Damaged, Place, Trouble, Unfit, YarrikError, shown_path
from yarrik.units import counted, shown_size

if TYPE_CHECKING:
    from yarrik.boot import Slots
    from yarrik.manifest import ImageKey
    from yarrik.update import Bytes, Disk

updates = typer.Typer(
    no_args_is_help=True,
    rich_markup_mode="rich",
    help="Updates of boards with two slots: a signed bundle with what is new, written to the slot that does not run.",
    epilog="Examples: [bold]yarrik update make old.img gauge --key release-key[/bold] · "
    "[bold]yarrik update apply gauge-1.1.update board.img --signed-by release-key.pub[/bold]",
)
app.add_typer(updates, name="update")

Workspace = Annotated[Path | None, typer.Option(metavar="FOLDER", help="The workspace of the product.")]
Board = Annotated[Path, typer.Argument(metavar="BOARD", help="A disk image that stands for a board.")]


@updates.command(
    epilog="Examples: [bold]yarrik update make gauge-1.0.img gauge --key release-key[/bold] · "
    "[bold]yarrik update make gauge --whole --key release-key[/bold] (for boards of any version)"
)
def make(
    old: Annotated[str, typer.Argument(metavar="OLD", help="The image that boards have now: a file, compressed or not.")],
    new: Annotated[str, typer.Argument(metavar="NEW", help="The product, or its image, that they are to have.")] = "",
    key: Annotated[
        Path | None, typer.Option(metavar="FILE", help="The private key, as ssh-keygen -t ed25519 makes it.")
    ] = None,
    to: Annotated[Path | None, typer.Option(metavar="FILE", help="Where the bundle goes.", show_default=False)] = None,
    whole: Annotated[bool, typer.Option("--whole", help="Brings all of the one image that is named.")] = False,
    older: Annotated[
        bool, typer.Option("--older", help="Boards may go back to this version; without it they refuse a lower one.")
    ] = False,
    workspace: Workspace = None,
    json: JsonOption = False,
) -> None:
    """Makes a signed bundle of what the new system has and the old one lacks.

    Both images are those of a board with slots. The bundle fits boards
    that run the old image's system unchanged; with --whole any board of
    the product takes it."""
    from yarrik.cli.flash import image_file
    from yarrik.cli.view import print_json
    from yarrik.update import Description, make_bundle, version_key

    if whole == bool(new):
        raise YarrikError(Trouble("UPDATE-IMAGE", "an update has an old and a new image, or brings one as a whole",
                                  remedy="yarrik update make OLD NEW, or yarrik update make NEW --whole"))  # fmt: skip
    if key is None:
        raise YarrikError(Trouble("SIGN-KEY", "no key is named, and boards take only what is signed",
                                  remedy="make one: ssh-keygen -t ed25519 -f release-key; then --key release-key"))  # fmt: skip
    files = [image_file(one, None, workspace) for one in (old, new) if one]
    with _image(files[-1]) as (slots, data), _image(files[0]) as (before, older_data):
        try:
            if not whole and (slots.product, slots.board) != (before.product, before.board):
                raise Unfit(f"it is {slots.product} for {slots.board}, and the old one {before.product} for {before.board}")
            if not whole and len(data) > len(older_data):
                raise Unfit(f"its slot has {shown_size(len(data))}, and boards have {shown_size(len(older_data))}")
            if not whole and version_key(slots.version) < version_key(before.version) and not older:
                raise Unfit(f"it is version {slots.version}, lower than {before.version}; --older signs for going back")
        except Unfit as error:
            raise YarrikError(
                Trouble("UPDATE-IMAGE", f"{shown_path(files[-1])} cannot follow: {error}", Place(files[-1]),
                        remedy="set the product's `version`, and keep boards and slots as they are")
            ) from error  # fmt: skip
        to = to or Path(f"{slots.product}-{slots.version}.update")
        about = Description(slots.product, slots.board, slots.version, 0, 0, b"", "" if whole else before.version, older)
        signature = _Signature(key)
        with _written(to) as file, _bar(json, "making the update") as progress:
            made = make_bundle(None if whole else older_data, data, about, signature, file, progress)
    if json:
        print_json({"ok": True, "bundle": str(to), "bytes": made.bundle, "product": slots.product, "board": slots.board,
                    "version": slots.version, "starts-from": made.description.start, "copied": made.copied, "new": made.new,
                    "key": signature.signer.fingerprint})  # fmt: skip
        return
    start = f"from {made.description.start}" if made.description.start else "from any version"
    sys.stdout.write(
        f"{shown_path(to)}: {shown_size(made.bundle)}, {slots.product} on {slots.board} {start} to {slots.version}\n"
        f"  of {shown_size(made.description.size)}: {shown_size(made.copied)} are in the old system, "
        f"{shown_size(made.new)} are new, the rest is empty\n"
        f"  signed by {signature.signer}\n"
        f"next: yarrik update apply {shown_path(to)} BOARD --signed-by {shown_path(key)}.pub\n"
    )


@updates.command(epilog="Example: [bold]yarrik update medium gauge-installer gauge --key release-key --to stick.img[/bold]")
def medium(
    installer: Annotated[str, typer.Argument(metavar="INSTALLER", help="The product, or its image, that installs.")],
    image: Annotated[str, typer.Argument(metavar="IMAGE|PRODUCT", help="What it installs: a whole disk.")],
    key: Annotated[Path, typer.Option(metavar="FILE", help="The private key, as ssh-keygen -t ed25519 makes it.")],
    to: Annotated[Path, typer.Option(metavar="FILE", help="Where the medium's image goes.")],
    workspace: Workspace = None,
    json: JsonOption = False,
) -> None:
    """Makes a card or stick that writes an image to a board's built-in storage.

    The installer's image has a last partition `payload`, which takes the
    image, compressed and signed. Its program is `updater install`."""
    from yarrik.cli.flash import image_file
    from yarrik.cli.view import print_json
    from yarrik.update import Description, make_medium, product_of

    ours, theirs = image_file(installer, None, workspace), image_file(image, None, workspace)
    signature = _Signature(key)
    try:
        product, board, version = product_of(theirs)
        with _written(to) as file, _bar(json, "making the medium") as progress:
            done = make_medium(ours, theirs, Description(product, board, version, 0, 0, b""), signature, file, progress)
    except (Unfit, Damaged, OSError) as error:
        why = error.strerror if isinstance(error, OSError) else str(error)
        raise YarrikError(
            Trouble("UPDATE-MEDIUM", f"no medium can be made of {shown_path(ours)} and {shown_path(theirs)}: {why}",
                    Place(ours), remedy='give the installer\'s disk a last partition `payload` with `filesystem = "none"`')
        ) from error  # fmt: skip
    about = done.made.description
    if json:
        print_json({"ok": True, "medium": str(to), "bytes": done.size, "product": product, "board": board, "version": version,
                    "installs": about.size, "compressed": done.made.bundle, "key": signature.signer.fingerprint})  # fmt: skip
        return
    sys.stdout.write(
        f"{shown_path(to)}: {shown_size(done.size)}, installs {product} {version} on {board}\n"
        f"  {shown_size(about.size)} as {shown_size(done.made.bundle)}, signed by {signature.signer}\n"
        f"next: yarrik flash {shown_path(to)} DEVICE\n"
    )


@updates.command(epilog="Example: [bold]yarrik update show gauge-1.1.update[/bold]")
def show(
    bundle: Annotated[Path, typer.Argument(metavar="BUNDLE", help="A bundle of `update make`.")], json: JsonOption = False
) -> None:
    """Says what a bundle is for, what it brings, and who signed it. Every part of it is held against its digest."""
    from yarrik.cli.view import print_json
    from yarrik.update import check_body, open_bundle, read_index

    with _bundle(bundle) as file:
        opened = open_bundle(file)
        about = opened.description
        pieces = read_index(opened.index_of(file), about, 1 << 62)
        check_body(file, opened, pieces)
    size = bundle.stat().st_size
    if json:
        print_json({"ok": True, "product": about.product, "board": about.board, "version": about.version, "bytes": size,
                    "starts-from": about.start, "may-go-back": about.older, "slot-bytes": about.size, "pieces": about.pieces,
                    "index": about.index.hex(), "key": opened.signer.fingerprint})  # fmt: skip
        return
    start = f"from version {about.start} only" if about.start else "from any version"
    if about.whole_disk:
        start = "a whole disk for an installer"
    sys.stdout.write(
        f"{shown_path(bundle)}: {shown_size(size)}, sound\n"
        f"  {about.product} on {about.board}, to version {about.version}, {start}{', or back' if about.older else ''}\n"
        f"  {counted(about.pieces, 'piece')} make {shown_size(about.size)}\n"
        f"  signed by {opened.signer}\n"
    )


@updates.command(epilog="Example: [bold]yarrik update apply gauge-1.1.update board.img --signed-by release-key.pub[/bold]")
def apply(
    bundle: Annotated[Path, typer.Argument(metavar="BUNDLE", help="A bundle of `update make`.")],
    board: Board,
    signed_by: Annotated[
        Path | None, typer.Option(metavar="FILE", help="Public keys of which one has to have signed it.")
    ] = None,
    workspace: Workspace = None,
    json: JsonOption = False,
) -> None:
    """Applies an update to a simulated board, as the program on a real one does.

    The slot that does not run is written and read back; then it is on trial
    for the next starts. The same command again goes on after an
    interruption."""
    from yarrik.cli.flash import trusted_keys
    from yarrik.cli.view import print_json
    from yarrik.update import apply_update, check_update, open_bundle, read_index

    keys = trusted_keys(signed_by, workspace)
    if not keys:
        raise YarrikError(Trouble("SIGN-KEY", "no key is trusted, and an update has to be signed",
                                  remedy="name public keys: --signed-by release-key.pub"))  # fmt: skip
    with _bundle(bundle) as file, _board(board, writing=True) as disk:
        opened = open_bundle(file)
        running = disk.running
        try:
            check_update(opened.description, opened.signer, keys, disk.slots)
            pieces = read_index(opened.index_of(file), opened.description, disk.places[running][1])

            def body(at: int, length: int) -> bytes:
                file.seek(opened.body + at)
                return file.read(length)

            with _bar(json, "applying the update") as progress:
                done = apply_update(disk, opened.description, pieces, body, "", progress)
        except Unfit as error:
            raise YarrikError(Trouble("UPDATE-REFUSED", f"the board does not take {shown_path(bundle)}: {error}", Place(bundle),
                                      why=f"it keeps version {disk.slots.version} in the slot `{running}`",
                                      remedy=f"see what it is for: yarrik update show {shown_path(bundle)}"),
                              "work") from error  # fmt: skip
        except Damaged as error:
            raise YarrikError(Trouble("UPDATE-FAILED", f"{shown_path(bundle)} was not applied: {error}", Place(bundle),
                                      why=f"the board keeps version {disk.slots.version} in the slot `{running}`",
                                      remedy="apply one that was made with --whole, or fetch this one again"),
                              "work") from error  # fmt: skip
    if json:
        print_json({"ok": True, "slot": done.slot, "written": done.written, "kept": done.kept, "starts": disk.slots.tries})
        return
    sys.stdout.write(
        f"{shown_path(board)}: version {opened.description.version} is in the slot `{done.slot}`, and is read back\n"
        f"  {shown_size(done.written)} written, {shown_size(done.kept)} were right already\n"
        f"  on trial for {counted(disk.slots.tries, 'start')}; then the board goes back to `{running}` by itself\n"
        f"next: yarrik boot --bench {shown_path(board)}, and once it works: yarrik update confirm {shown_path(board)}\n"
    )


@updates.command(epilog="Example: [bold]yarrik update confirm board.img[/bold]")
def confirm(board: Board, json: JsonOption = False) -> None:
    """Says of a simulated board that the system on trial works. A real one says so itself once its health check does."""
    from yarrik.cli.view import print_json
    from yarrik.update import confirm as confirmed

    with _board(board, writing=True) as disk:
        slot = confirmed(disk)
    if json:
        print_json({"ok": True, "slot": slot})
    elif slot is None:
        sys.stdout.write(f"{shown_path(board)}: no system is on trial\n")
    else:
        sys.stdout.write(f"{shown_path(board)}: the slot `{slot}` is the one that works from now on\n")


@updates.command(epilog="Example: [bold]yarrik update status board.img[/bold]")
def status(board: Board, json: JsonOption = False) -> None:
    """Shows the slots of a simulated board: versions, which one works, and which one is on trial."""
    from yarrik.cli.view import print_json

    with _board(board) as disk:
        state, versions, works = disk.state(), disk.versions, disk.running
    trial, left = (state.trial, state.tries) if state is not None else ("", 0)
    if json:
        print_json({"ok": True, "product": disk.slots.product, "board": disk.slots.board, "works": works, "trial": trial,
                    "starts-left": left, "slots": versions})  # fmt: skip
        return
    sys.stdout.write(f"{shown_path(board)}: {disk.slots.product} on {disk.slots.board}\n")
    for name, version in versions.items():
        words = ["known to work"] if name == works else []
        if name == trial:
            words.append(f"on trial, {counted(left, 'start')} left" if left else "was tried and did not hold")
        sys.stdout.write(f"  {name:<8} {version or 'not whole':<12} {', '.join(words)}".rstrip() + "\n")


class _Signature:
    """Signs with the key of a file, and knows afterwards whose that is."""

    signer: ImageKey

    def __init__(self, key: Path) -> None:
        self._key = key

    def __call__(self, text: bytes) -> bytes:
        from yarrik.cli.sign import ask_passphrase
        from yarrik.manifest import sign, signature_blob

        armour, self.signer = sign(text, self._key, ask_passphrase)
        return signature_blob(armour)


@contextmanager
def _written(to: Path) -> Iterator[BinaryIO]:
    """A file that takes the place of `to` once it is whole. Raises YarrikError."""
    import tempfile

    beside: Path | None = None
    try:
        handle, name = tempfile.mkstemp(prefix=f".{to.name}.", dir=to.parent)
        beside = Path(name)
        with open(handle, "wb") as file:
            yield file
            file.flush()
            os.fchmod(file.fileno(), 0o644)
            os.fsync(file.fileno())
        beside.replace(to)
    except OSError as error:
        raise YarrikError(Trouble("UPDATE-BUNDLE", f"{shown_path(to)} cannot be written: {error.strerror}", Place(to),
                                  remedy="name another file with --to"), "work") from error  # fmt: skip
    finally:
        if beside is not None:
            beside.unlink(missing_ok=True)


@contextmanager
def _image(path: Path) -> Iterator[tuple[Slots, Bytes]]:
    from yarrik.update import slot_bytes

    try:
        with slot_bytes(path) as found:
            yield found
    except (Unfit, Damaged, OSError) as error:
        why = error.strerror if isinstance(error, OSError) else str(error)
        raise YarrikError(Trouble("UPDATE-IMAGE", f"{shown_path(path)} has no slots to make an update of: {why}", Place(path),
                                  remedy="build it for a board with `boot.slot` and `boot.switch`")) from error  # fmt: skip


@contextmanager
def _bundle(path: Path) -> Iterator[BinaryIO]:
    try:
        with path.open("rb") as file:
            yield file
    except (Damaged, OSError) as error:
        why = error.strerror if isinstance(error, OSError) else str(error)
        raise YarrikError(Trouble("UPDATE-BUNDLE", f"{shown_path(path)} cannot be used: {why}", Place(path),
                                  remedy="fetch it again, or make it again"), "work") from error  # fmt: skip


@contextmanager
def _board(path: Path, writing: bool = False) -> Iterator[Disk]:
    """The disk that an image file stands for, open for this command alone. Raises YarrikError."""
    import fcntl
    import stat

    from yarrik.disk import opened_bytes
    from yarrik.update import FileMedium, disk_of

    handle = -1
    try:
        handle = os.open(path, (os.O_RDWR if writing else os.O_RDONLY) | os.O_CLOEXEC | os.O_NONBLOCK)
        if not stat.S_ISREG(os.fstat(handle).st_mode):
            raise Unfit("it is no file; a real board applies updates itself, and `yarrik flash` writes whole devices")
        fcntl.flock(handle, (fcntl.LOCK_EX if writing else fcntl.LOCK_SH) | fcntl.LOCK_NB)
        with opened_bytes(Path(f"/proc/self/fd/{handle}")) as (_, image):
            if image.wrapped:
                raise Unfit("it is compressed, and a board writes to its disk: unpack it first")
            yield disk_of(FileMedium(handle), image)
    except BlockingIOError as error:
        raise YarrikError(Trouble("UPDATE-BOARD", f"{shown_path(path)} is in use", Place(path),
                                  why="another command has it open", remedy="wait for it"), "work") from error  # fmt: skip
    except (Unfit, Damaged, OSError) as error:
        why = error.strerror if isinstance(error, OSError) else str(error)
        raise YarrikError(Trouble("UPDATE-BOARD", f"{shown_path(path)} does not stand for a board with slots: {why}",
                                  Place(path), remedy="copy the image of a product whose board has `boot.switch`"),
                          "work") from error  # fmt: skip
    finally:
        if handle >= 0:
            os.close(handle)


@contextmanager
def _bar(silent: bool, title: str) -> Iterator[Callable[[int, int], None]]:
    from yarrik.cli.flash import progress_line

    with progress_line(not silent and sys.stderr.isatty(), title) as progress:
        yield progress
