"""`yarrik resolve`, `why`, `why-not`: what a product resolves to, and the reasons."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from yarrik.cli import app
from yarrik.cli.options import (
    JsonOption,
    LockedOption,
    ProductArgument,
    ProductOption,
    SetOption,
    WithOption,
    WorkspaceOption,
    composed,
    names_of,
    opened,
)
from yarrik.units import counted

if TYPE_CHECKING:
    from yarrik.resolve import Answer, Link

NameArgument = Annotated[str, typer.Argument(help="A package, recipe or role.", autocompletion=names_of("recipe", "package"))]


@app.command(epilog="Examples: [bold]yarrik resolve[/bold] · [bold]yarrik resolve tide-gauge --update libplot[/bold]")
def resolve(
    product: ProductArgument = None,
    named: ProductOption = None,
    update: Annotated[
        list[str] | None,
        typer.Option(metavar="NAME", help="Lets a recipe (or role) move from what yarrik.lock has; may be repeated.",
                     autocompletion=names_of("recipe")),
    ] = None,
    update_all: Annotated[bool, typer.Option("--update-all", help="Lets everything move.")] = False,
    locked: LockedOption = False,
    patience: Annotated[float, typer.Option(metavar="SECONDS", help="Gives up the search after this time.", min=0.1)] = 5.0,
    full: Annotated[bool, typer.Option("--full", help="Shows the whole proof when there is no answer.")] = False,
    variants: WithOption = None,
    settings: SetOption = None,
    workspace: WorkspaceOption = None,
    json: JsonOption = False,
) -> None:  # fmt: skip
    """Finds versions, options and packages that satisfy all requirements, and writes them to yarrik.lock."""
    from yarrik.cli.view import ResolveView, print_json, show_table, show_warnings, styled
    from yarrik.run import Choices

    with opened(workspace, Choices(locked=locked, patience=patience, full_proof=full)) as session:
        composition = composed(session, product or named, variants, settings)
        known = session.project.lock.products.get(composition.name)
        view = ResolveView(quiet=json)
        try:
            moving = None if update_all else _known_names(session, update or ())
            answer = session.planner.answer(composition, moving, view)
        finally:
            view.close()
        differences = session.planner.hold(answer, moving=moving)
        session.project.write_lock()
        written = known is None or bool(differences)
    if json:
        print_json({"ok": True, "product": composition.name, **answer_as_json(answer),
                    "moved": [str(one) for one in differences],
                    "warnings": [trouble.as_json() for trouble in answer.warnings]})  # fmt: skip
        return
    counts = f"{counted(len(answer.versions), 'recipe')}, {counted(len(answer.packages), 'package')}"
    how = "written to yarrik.lock" if written else "as yarrik.lock has it"
    sys.stdout.write(f"{styled(composition.name, 'bold')}: {counts}, {how}\n")
    if known is not None and differences:
        show_table([(styled("moved", "yellow"), str(one)) for one in differences])
    rows = []
    for node, version in answer.versions.items():
        options = " ".join(name if on else f"-{name}" for name, on in answer.options_of(node).items())
        rows.append((str(node), str(version), options))
    show_table(rows)
    if answer.roles:
        sys.stdout.write("  " + ", ".join(f"{role} is {package}" for role, package in answer.roles.items()) + "\n")
    show_warnings(answer.warnings)
    sys.stdout.write(
        f"next: yarrik why NAME{_as_asked(product, variants)} · yarrik build{_as_asked(product, variants, option=False)}\n"
    )


def _as_asked(product: str | None, variants: list[str] | None, option: bool = True) -> str:
    """The words that ask for the same product again."""
    words = f" {'--product ' if option else ''}{product}" if product else ""
    return words + "".join(f" --with {one}" for one in variants or ())


def _known_names(session: object, names: list[str] | tuple[str, ...]) -> list[str]:
    from yarrik.errors import Place, Trouble, YarrikError, suggestion
    from yarrik.run import Session

    assert isinstance(session, Session)
    locked = {name for one in session.project.lock.products.values() for name in (*one.versions, *one.tools, *one.roles)}
    known = locked | session.project.workspace.shelved["recipe"].keys()
    for name in names:
        if name not in known:
            raise YarrikError(Trouble("NAME-UNKNOWN", f"`{name}` cannot be moved: no recipe is called so",
                                      Place(session.project.lock.file),
                                      remedy=suggestion(name, known)))  # fmt: skip
    return list(names)


def answer_as_json(answer: Answer) -> dict[str, object]:
    return {
        "versions": {str(node): str(version) for node, version in answer.versions.items()},
        "options": {f"{node}[{option}]": on for (node, option), on in answer.options.items()},
        "packages": list(answer.packages),
        "roles": dict(answer.roles),
    }


@app.command(epilog="Examples: [bold]yarrik why libtide[/bold] · [bold]yarrik why libplot --with display[/bold]")
def why(
    name: NameArgument,
    product: ProductOption = None,
    variants: WithOption = None,
    settings: SetOption = None,
    workspace: WorkspaceOption = None,
    json: JsonOption = False,
) -> None:
    """Tells why something is in a product: all shortest ways from what was asked for."""
    from yarrik.cli.view import print_json, show_table, styled
    from yarrik.errors import Trouble, YarrikError, suggestion
    from yarrik.resolve import link_words

    with opened(workspace) as session:
        composition = composed(session, product, variants, settings)
        answer = session.planner.answer(composition)
        found = [
            thing
            for thing in answer.things()
            if name in (thing.name, str(thing)) and thing.kind in ("package", "recipe", "role", "group")
        ]
        if not found:
            catalog = answer.universe.catalog
            if name in catalog.known():
                raise YarrikError(
                    Trouble("NOT-IN-PRODUCT", f"`{name}` is not in `{composition.name}`",
                            remedy=f"yarrik why-not {name}{_as_asked(product, variants)} tells what prevents it")
                )  # fmt: skip
            raise YarrikError(Trouble("NAME-UNKNOWN", f"no shelf has a recipe, package or role `{name}`",
                                      remedy=suggestion(name, catalog.known())))  # fmt: skip
        chains = {thing: answer.ways_to(thing) for thing in found}
        first = next((thing for thing in found if thing.kind == "package"), found[0])
        shown = chains[first] or next((ways for ways in chains.values() if ways), [])
        built = _came_in(session.project.out(composition.name), name)
        options = _options_told(answer, name)
    if json:
        ways = [
            [
                {"from": str(link.source), "to": str(link.target), "relation": link.relation.value, "how": link_words(link),
                 "at": str(link.place)}
                for link in way
            ]
            for way in shown
        ]  # fmt: skip
        print_json({"ok": True, "product": composition.name, "name": name, "in-image": built is not None or None, "ways": ways})
        return
    version = next((str(version) for node, version in answer.versions.items() if node.recipe == name), "")
    what = "in" if first.kind != "recipe" else "built for"
    sys.stdout.write(f"{styled(f'{name} {version}'.strip(), 'bold')} is {what} {composition.name}:\n")
    for number, way in enumerate(shown):
        if number:
            sys.stdout.write("and:\n")
        rows = [(_told(link), link.place.short) for link in way]
        show_table([row for row, link in zip(rows, way, strict=True) if _worth_telling(link)] or rows)
    if built is not None:
        sys.stdout.write(f"  in the image that was built last: {built}\n")
    show_table(options)


def _worth_telling(link: Link) -> bool:
    """A recipe brings its own package, and a package comes from its recipe: that goes without saying."""
    from yarrik.resolve import Relation

    return link.relation not in (Relation.LIBRARIES, Relation.PACKAGE_OF) or link.source.name != link.target.name


def _told(link: Link) -> str:
    from yarrik.model import HOST_MARK
    from yarrik.resolve import link_words

    if link.source.kind == "product":
        return link_words(link)
    host = HOST_MARK if link.source.side == "host" else ""
    kind = {"group": "the group ", "role": "the role "}.get(link.source.kind, "")
    how = f"is answered by {link_words(link)}" if link.source.kind == "role" else link_words(link)
    return f"{kind}{link.source.name}{host} {how}"


def _options_told(answer: Answer, name: str) -> list[tuple[str, str, str]]:
    """Each option of a recipe, with who wants it so, and where."""
    from yarrik.resolve import Node

    node = Node(name, "board")
    if node not in answer.versions:
        return []
    wishes, document = answer.universe.composition.wishes
    recipe = answer.recipe(node)
    lines = []
    for option, on in answer.options_of(node).items():
        fact = ""
        if option in wishes.options.get(name, {}):
            who, place = "asked for", document.origin("options", name, option).place.short
        else:
            fact, place = answer.reason_for_option(node, option)
            rule = recipe.value.options.get(option)
            default = any(option == choice.default for choice in recipe.value.choice.values()) or (
                rule is not None and rule.default
            )
            who = (
                fact
                if fact and (default != on or " needs " in fact)
                else "its usual value"
                if default == on
                else "follows from another"
            )
        lines.append((f"option {option} {'on' if on else 'off'}", who, place if who in (fact, "asked for") else ""))
    return lines


def _came_in(out: Path, name: str) -> str | None:
    """What the manifest of the last build says of a package."""
    import msgspec

    try:
        packages = msgspec.json.decode((out / "packages.json").read_bytes())["packages"]
        return next((f"{one['because']}, {one['bytes']} bytes" for one in packages if one["name"] == name), None)
    except (OSError, msgspec.DecodeError, KeyError, TypeError):
        return None


@app.command(
    "why-not", epilog='Examples: [bold]yarrik why-not pier-printer[/bold] · [bold]yarrik why-not "libplot >= 3"[/bold]'
)
def why_not(
    name: Annotated[
        str,
        typer.Argument(help="A package, with options and versions if you like.", autocompletion=names_of("recipe", "package")),
    ],
    product: ProductOption = None,
    variants: WithOption = None,
    settings: SetOption = None,
    workspace: WorkspaceOption = None,
    json: JsonOption = False,
) -> None:
    """Tells what prevents a package in a product, or what it would bring along."""
    from yarrik.cli.view import print_json, show_table, styled
    from yarrik.errors import Trouble, Unfit, YarrikError
    from yarrik.versions import parse_requirement

    try:
        need = parse_requirement(name)
    except Unfit as error:
        raise YarrikError(Trouble("NEED-FORM", str(error), remedy="put it in quotes: yarrik why-not 'libplot >= 3'")) from None
    with opened(workspace) as session:
        composition = composed(session, product, variants, settings)
        answer = session.planner.answer(composition)
        asked = [*(settings or ()), f'image.packages.add=["{name}"]']
        other = session.planner.answer(composed(session, product, variants, asked), moving=())
    new = sorted(set(other.packages) - set(answer.packages))
    changed = [(str(node), str(answer.versions[node]), str(version)) for node, version in other.versions.items()
               if node in answer.versions and answer.versions[node] != version]  # fmt: skip
    turned = [f"{node}[{option}] {'on' if on else 'off'}" for (node, option), on in other.options.items()
              if answer.options.get((node, option), on) != on]  # fmt: skip
    if json:
        print_json({"ok": True, "product": composition.name, "name": name, "brings": new,
                    "moves": [f"{node}: {before} → {after}" for node, before, after in changed], "turns": turned})  # fmt: skip
        return
    if not new and not changed and not turned:
        sys.stdout.write(
            f"{styled(name, 'bold')} is in {composition.name} already: yarrik why {need.name}{_as_asked(product, variants)}\n"
        )
        return
    sys.stdout.write(
        f"nothing stands against {styled(name, 'bold')} in {composition.name}; nobody asks for it. It would bring:\n"
    )
    rows = [("package", one) for one in new] + [("version", f"{node}: {before} → {after}") for node, before, after in changed]
    show_table(rows + [("option", one) for one in turned])
    image = composition.image
    place = image.file.name if image.shelf == "" else f"{image.shelf}: {image.file.name}"
    sys.stdout.write(f'next: add "{name}" to `packages` of the image {image.name} ({place})\n')
