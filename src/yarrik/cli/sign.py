"""`yarrik sign`: a signature over a finished product."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import Annotated

import typer

from yarrik.cli import app
from yarrik.cli.options import JsonOption, names_of


@app.command(
    epilog="Examples: [bold]yarrik sign tide-gauge --key release-key[/bold] · "
    "[bold]yarrik sign tide-gauge[/bold] (says which key did)"
)
def sign(
    product: Annotated[
        str, typer.Argument(help="A product that is built, or the folder that it is in.", autocompletion=names_of("product"))
    ],
    key: Annotated[
        Path | None, typer.Option(metavar="FILE", help="The private key, as ssh-keygen -t ed25519 makes it.")
    ] = None,
    workspace: Annotated[Path | None, typer.Option(metavar="FOLDER", help="The workspace of the product.")] = None,
    json: JsonOption = False,
) -> None:
    """Signs a finished product; without a key, says which one did.

    All files are held against SHA256SUMS first; its signature is
    SHA256SUMS.sig beside it, which `ssh-keygen -Y verify` reads as well. A
    build that changes anything takes it away."""
    from yarrik.atomic import write_file
    from yarrik.beneath import regular_file
    from yarrik.cli.view import print_json
    from yarrik.errors import Damaged, Place, Trouble, YarrikError, shown_path
    from yarrik.manifest import SIGNATURE_FILE, check_sums, signer_of
    from yarrik.manifest import sign as signed
    from yarrik.model import find_workspace

    out = Path(product)
    if not (out / "SHA256SUMS").is_file():
        out = find_workspace(workspace or Path.cwd()) / "out" / product
    sums, place = out / "SHA256SUMS", out / SIGNATURE_FILE
    try:
        data = regular_file(sums)
    except OSError as error:
        raise YarrikError(Trouble("SIGN-MISSING", f"`{product}` has no checksums to be signed: {error.strerror}", Place(sums),
                                  remedy=f"build it: yarrik build {product}")) from error  # fmt: skip
    if key is not None:
        check_sums(out, data)
        text, signer = signed(data, key, ask_passphrase)
        write_file(place, text)
    else:
        try:
            signer = signer_of(data, regular_file(place))
        except FileNotFoundError as error:
            raise YarrikError(Trouble("SIGN-MISSING", f"`{product}` is not signed", Place(place),
                                      remedy=f"sign it: yarrik sign {product} --key FILE"), "work") from error  # fmt: skip
        except Damaged as error:
            raise YarrikError(Trouble("SIGN-WRONG", f"the signature {shown_path(place)} does not hold: {error}", Place(place),
                                      remedy="sign it again, or fetch it again"), "work") from error  # fmt: skip
    if json:
        print_json({"ok": True, "signature": str(place), "key": signer.fingerprint})
        return
    sys.stdout.write(f"{product}: signed by {signer}\n")
    if key is not None:
        line = Path(f"{key}.pub")
        where = shown_path(line) if line.is_file() else "FILE"
        sys.stdout.write(f"{shown_path(place)}; next: yarrik flash {product} DEVICE --signed-by {where}\n")


def ask_passphrase() -> str:
    """Asks for the passphrase of a private key."""
    import getpass

    return getpass.getpass("passphrase of the key: ")
