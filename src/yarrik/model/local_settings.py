"""What holds for one person or machine, and is no part of any product: caches, keys, mirrors, jobs.

It is in the user's configuration folder (`settings.toml`) and, for one workspace, below `[settings]` in
`yarrik.local.toml`, which has the last word."""

from __future__ import annotations

import os
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

import msgspec
import platformdirs

from yarrik.atomic import write_file
from yarrik.errors import Place, Trouble, YarrikError, suggestion
from yarrik.model.checking import convert
from yarrik.model.definitions import Local, LocalSettings, Proxies
from yarrik.model.reading import Document, read_document, values_with_origins
from yarrik.model.root import LOCAL_FILE
from yarrik.patterns import lazy_pattern

if TYPE_CHECKING:
    from yarrik.model.workspace import Workspace

#: Keys that hold one value, and those that hold a list of texts.
_TABLED = lazy_pattern(
    r"mirrors\..+|proxies\.(http|https|direct)|use\.[^.]+\.(path|git|branch|commit)|secrets\.[^.]+\.(environment|file)"
)
_KNOWN = ("jobs", "cache", "trusted-keys", "image-keys", "redirect-hosts", "catalogues", "mirrors.URL", "proxies.https",
          "proxies.http", "proxies.direct", "use.RECIPE.path", "use.RECIPE.git", "use.RECIPE.branch",
          "secrets.NAME.environment", "secrets.NAME.file")  # fmt: skip
_SINGLE, _LISTS = ("jobs", "cache"), ("trusted-keys", "image-keys", "redirect-hosts", "catalogues")


def settings_file() -> Path:
    """The user's own file: `YARRIK_SETTINGS` if set, else in the user's configuration folder."""
    named = os.environ.get("YARRIK_SETTINGS")
    return Path(named) if named else platformdirs.user_config_path("yarrik") / "settings.toml"


def load_settings(workspace: Workspace | None) -> tuple[LocalSettings, Place]:
    """The settings, and where the nearest of them stand. Raises YarrikError for a file that does not fit."""
    local = workspace.local if workspace is not None else None
    return _settings(local)


def settings_at(root: Path) -> LocalSettings:
    """The settings that count in a workspace's folder, without reading its definitions. Raises YarrikError."""
    return settings_in(root)[0]


def settings_in(root: Path) -> tuple[LocalSettings, Place]:
    """The same, and where the nearest of them stand. Raises YarrikError."""
    local = read_document(root / LOCAL_FILE) if (root / LOCAL_FILE).is_file() else None
    if local is not None:
        convert(local, Local)
    return _settings(local)


def _settings(local: Document | None) -> tuple[LocalSettings, Place]:
    file = settings_file()
    general = convert(read_document(file), LocalSettings) if file.is_file() else LocalSettings()
    general = _with_paths(general, file.parent)
    if local is None or not local.raw.get("settings"):
        return general, Place(file)
    own = _with_paths(msgspec.convert(local.raw["settings"], LocalSettings), local.file.parent)
    caches = {one.name: one for one in (*general.shared_cache, *own.shared_cache)}
    return LocalSettings(
        jobs=own.jobs or general.jobs,
        cache=own.cache or general.cache,
        trusted_keys=tuple(dict.fromkeys((*general.trusted_keys, *own.trusted_keys))),
        image_keys=general.image_keys or own.image_keys,  # nor trust a key that its user does not
        shared_cache=tuple(caches.values()),
        mirrors={**general.mirrors, **own.mirrors},
        redirect_hosts=tuple(dict.fromkeys((*general.redirect_hosts, *own.redirect_hosts))),
        debian_archive=own.debian_archive or general.debian_archive,
        catalogues=tuple(dict.fromkeys((*own.catalogues, *general.catalogues))),
        proxies=own.proxies if own.proxies != Proxies() else general.proxies,
        use={**general.use, **own.use},
        secrets={**general.secrets, **own.secrets},
        terms=general.terms,  # a workspace that somebody hands over must not accept terms for its user
    ), Place(local.file, key="settings")


def _with_paths(settings: LocalSettings, folder: Path) -> LocalSettings:
    """The settings with paths of catalogues, diversions, keyrings and secrets from the folder of the file that names them."""

    def whole(text: str) -> str:
        return str(folder / Path(text).expanduser())

    if not settings.catalogues and not settings.use and not settings.secrets and not settings.debian_archive:
        return settings
    catalogues = tuple(text if "://" in text else whole(text) for text in settings.catalogues)
    use = {name: msgspec.structs.replace(one, path=whole(one.path)) if one.path else one for name, one in settings.use.items()}
    secrets = {name: msgspec.structs.replace(one, file=whole(one.file)) if one.file else one
               for name, one in settings.secrets.items()}  # fmt: skip
    archives = tuple(msgspec.structs.replace(one, keyring=whole(one.keyring)) if one.keyring else one
                     for one in settings.debian_archive)  # fmt: skip
    return msgspec.structs.replace(settings, catalogues=catalogues, use=use, secrets=secrets, debian_archive=archives)


class SettingLine(msgspec.Struct, frozen=True):
    """A setting as it is written: its key and value, its file and line, and whether another one goes before it."""

    key: str
    value: object
    place: Place
    hidden: bool = False


def written_settings(root: Path | None) -> list[SettingLine]:
    """All settings that count in a workspace (or for the user, without one), the user's own first. Raises YarrikError."""
    documents: list[Document] = []
    file = settings_file()
    if file.is_file():
        documents.append(read_document(file))
        convert(documents[-1], LocalSettings)
    if root is not None and (root / LOCAL_FILE).is_file():
        local = read_document(root / LOCAL_FILE)
        convert(local, Local)
        documents.append(local.part("settings"))
    lines = (line for document in documents for line in values_with_origins(document))
    found = [SettingLine(key, value, origin.place) for key, value, origin in lines]
    last = {line.key: line for line in found if line.key in _SINGLE or line.key.startswith("mirrors.")}
    return [SettingLine(one.key, one.value, one.place, last.get(one.key, one) is not one) for one in found]


def change_setting(root: Path | None, key: str, text: str) -> Path:
    """Writes one setting, into the workspace's own file with a `root`, else into the user's; an empty text takes it out.
    Comments and order stay. A list is several words with commas between them. Returns the file. Raises YarrikError; then
    nothing has changed."""
    file = settings_file() if root is None else root / LOCAL_FILE
    if key not in (*_SINGLE, *_LISTS) and _TABLED.fullmatch(key) is None:
        raise YarrikError(
            Trouble("SETTING-KEY", f"`{key}` is not a setting that can be set here", Place(file),
                    remedy=f"{suggestion(key, _KNOWN)}; shared caches are tables: edit the file")
        )  # fmt: skip
    value: object = text
    if key == "jobs":
        value = int(text) if text.isdecimal() and len(text) < 9 else text
    elif key in _LISTS or key == "proxies.direct" or key.startswith("mirrors."):
        value = [word.strip() for word in text.split(",") if word.strip()]
    first, sign, rest = key.partition(".")
    path = [first, *([rest] if first == "mirrors" else rest.split(".") if sign else [])]
    return _write(root, path, value if text else None)


def accept_terms(key: str, digest: str, date: str) -> Path:
    """Records that the user has accepted a text of terms: its kind and name, its SHA-256, and the day. Returns the file. Raises
    YarrikError."""
    return _write(None, ["terms", key], {"sha256": digest, "date": date})


def _write(root: Path | None, path: Sequence[str], value: object) -> Path:
    """Writes one value of the user's settings, or of a workspace's; None takes it out."""
    import tomlkit

    file = settings_file() if root is None else root / LOCAL_FILE
    document = tomlkit.parse(file.read_text(encoding="utf-8")) if _readable(file) else tomlkit.document()
    table: Any = document if root is None else document.setdefault("settings", tomlkit.table())
    around = []
    for word in path[:-1]:
        around.append((table, word))
        table = table.setdefault(word, tomlkit.table())
    if value is None:
        table.pop(path[-1], None)
        for outer, word in reversed(around):  # an empty table would stand for something
            if not outer[word]:
                del outer[word]
    else:
        table[path[-1]] = value
    whole = tomlkit.dumps(document)
    # What is written has to read: the checks are those of reading, with the key in their messages.
    import tomllib  # hardly any command writes settings

    convert(Document(file, tomllib.loads(whole), (), {}), LocalSettings if root is None else Local)
    try:
        file.parent.mkdir(parents=True, exist_ok=True)
        write_file(file, whole.encode())
    except OSError as error:
        raise YarrikError(Trouble("NEW-UNWRITABLE", f"cannot write {file}: {error.strerror}", Place(file),
                                  remedy="name a file of yours in YARRIK_SETTINGS")) from error  # fmt: skip
    return file


def _readable(file: Path) -> bool:
    """Whether there is a file to change; one with errors raises them."""
    if not file.is_file():
        return False
    read_document(file)
    return True
