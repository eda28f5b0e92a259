"""What an image brings itself, worked out of its definition: files, trees, links, nodes, and what says who and where it is."""

from __future__ import annotations

import os
import re
import stat
from collections.abc import Iterable, Iterator
from pathlib import Path

import msgspec

from yarrik.errors import Collector, Place, Trouble, YarrikError, from_package, suggestion
from yarrik.model import Composition, Definition, Image, ImageFile, ImageTree, Interface, TreeRule
from yarrik.network import NETWORK_FORMS, check_network, resolver_lines, wireless_file, wireless_path
from yarrik.network import in_order as order_of_network
from yarrik.plan.first_boot import SERVICE as FIRST_BOOT
from yarrik.plan.first_boot import first_boot_files, first_boot_service
from yarrik.plan.known_choices import unknown
from yarrik.plan.mounts import mount_table, start_folders
from yarrik.plan.origins import origin_of
from yarrik.plan.surroundings import NearSurroundings
from yarrik.plan.templates import TemplateUnfit, filled
from yarrik.resolve import Accounts
from yarrik.rootfs import GENERATED, ZONE_LABEL, OwnPath
from yarrik.services import AskedService, OneService, check_services, settle_services

#: Where the build host has its zone data, and the beginning of each of its files (RFC 8536, section 3.1).
ZONES = Path("/usr/share/zoneinfo")
_ZONE_MAGIC = b"TZif"
_LARGEST_TEMPLATE = 1 << 20
#: The most that a laid-over tree may hold: more is a package.
_MOST_PATHS = 100_000


class Inside(msgspec.Struct):
    """The paths that an image brings, the files of this machine that they are made from, by label, and where each is said."""

    own: list[OwnPath] = msgspec.field(default_factory=list)
    files: dict[str, str] = msgspec.field(default_factory=dict)
    places: dict[str, Path] = msgspec.field(default_factory=dict)
    #: By path and key of its table; an empty key is the table itself.
    said: dict[tuple[str, str], Place] = msgspec.field(default_factory=dict)
    #: Texts that no message shows, by label.
    secret_files: dict[str, str] = msgspec.field(default_factory=dict)
    #: Programs that have to be in the image, with what calls them.
    programs: list[tuple[str, str]] = msgspec.field(default_factory=list)


def what_is_inside(
    composition: Composition,
    surroundings: NearSurroundings,
    arch: str,
    accounts: Accounts,
    read_only_root: bool,
    collector: Collector,
) -> Inside:
    """All that the image says, apart from packages, accounts and services. Troubles go to `collector`."""
    return _Inside(composition, surroundings, arch, accounts, read_only_root, collector).run()


class _Inside(msgspec.Struct):
    composition: Composition
    surroundings: NearSurroundings
    arch: str
    accounts: Accounts
    read_only_root: bool
    collector: Collector
    found: Inside = msgspec.field(default_factory=Inside)

    @property
    def image(self) -> Definition[Image]:
        return self.composition.image

    def run(self) -> Inside:
        self._identity()
        self._network()
        self._first_boot()
        computed = len(self.found.own)
        for step in (self._trees, self._files, self._others):
            step()
        for one in self.found.own[computed:]:
            if one.path in GENERATED:
                self.collector.add(
                    Trouble("IMAGE-GENERATED", f"{one.path} is written from the image's accounts and host name",
                            self.found.said[one.path, ""], remedy="use `hostname`, [root], [[user]] and [[group]] in the image")
                )  # fmt: skip
        return self.found

    def _add(self, own: OwnPath, place: Place, *keys: str) -> None:
        """`keys` lead to the path's own table in the image's definition, if it has one."""
        self.found.said[own.path, ""] = place
        for word in ("owner", "group") if keys else ():
            self.found.said[own.path, word] = self.image.place(*keys, word)
        self.found.own.append(own)

    def _origin(self, place: Place) -> str:
        """The file that says so, from the workspace's folder: the same on every machine."""
        return origin_of(place, self.composition)

    # Who and where it is

    def _identity(self) -> None:
        image, hostname = self.image.value, self.composition.hostname
        self._text("/etc/hostname", hostname + "\n", "hostname")
        lines = ["127.0.0.1 localhost", f"127.0.1.1 {hostname}", "::1 localhost ip6-localhost"]
        lines += [f"{address} {' '.join(names)}" for address, names in sorted(image.hosts.items())]
        self._text("/etc/hosts", "".join(f"{line}\n" for line in lines), "hosts", usual=not image.hosts)
        # Empty, it is made at the first boot (machine-id(5)); no two boards may have the same.
        self._text("/etc/machine-id", "", "", mode=0o444, usual=True)
        if image.message_of_the_day:
            self._text("/etc/motd", image.message_of_the_day, "message-of-the-day")
        self._zone()
        environment = image_variables(self.composition)
        if image.locale:
            self._text("/etc/locale.conf", f"LANG={image.locale}\n", "locale")
        if environment:
            key = "environment" if image.environment else "locale"
            rows = sorted(environment.items())
            self._text("/etc/environment", "".join(f"{name}={_quoted(value)}\n" for name, value in rows), key)
            if self.composition.profile.value.service_form == "units":
                # Services do not read it there: what all of them get is said to the manager (systemd-system.conf(5)).
                words = " ".join(f'"{name}={_escaped(value)}"' for name, value in rows)
                self._text("/etc/systemd/system.conf.d/image.conf", f"[Manager]\nDefaultEnvironment={words}\n", key)
            exports = "".join(f"export {name}={_quoted(value)}\n" for name, value in rows)
            self._text("/etc/profile.d/environment.sh", exports, key)
        if image.sysctl:
            rows = sorted((key.replace("/", "."), value) for key, value in image.sysctl.items())
            self._text("/etc/sysctl.d/50-image.conf", "".join(f"{key} = {value}\n" for key, value in rows), "sysctl")
        self._release()
        table = mount_table(self.composition, self.read_only_root, self.collector)
        if table.lines:
            text = "".join(f"{line}\n" for line in table.lines)
            self._add(OwnPath(path="/etc/fstab", kind="file", mode=0o644, content=text, usual=not table.asked), Place())
        for path in table.folders:
            self._add(OwnPath(path=path, kind="folder", mode=0o755, usual=True), Place())
        folders = start_folders(self.composition, self.accounts, self.collector)
        if folders is not None:
            self._add(folders, self.image.place("start-folder"))

    def _text(self, path: str, text: str, key: str, mode: int = 0o644, usual: bool = False) -> None:
        place = self.image.place(key) if key else Place()
        written = bool(key) and key in self.image.document.raw
        self._add(OwnPath(path=path, kind="file", mode=mode, content=text, usual=usual,
                          origin=self._origin(place) if written else ""), place)  # fmt: skip

    def _release(self) -> None:
        image, composition = self.image.value, self.composition
        release = image.release
        fields: dict[str, str] = {}
        if release is not None:
            pretty = release.pretty_name or " ".join(word for word in (release.name, release.version) if word)
            fields = {"NAME": release.name, "ID": release.id, "VERSION_ID": release.version, "PRETTY_NAME": pretty,
                      "HOME_URL": release.home_url, "SUPPORT_URL": release.support_url, **release.more}  # fmt: skip
        else:
            fields = {"NAME": "Linux", "ID": "linux", "PRETTY_NAME": composition.name}
        fields |= {"IMAGE_ID": re.sub(r"[^a-z0-9._-]", "-", composition.name.lower())}
        lines = [f"{key}={_quoted(value)}\n" for key, value in fields.items() if value]
        self._text("/usr/lib/os-release", "".join(lines), "release", usual=release is None)
        self._add(OwnPath(path="/etc/os-release", kind="link", mode=0o777, content="../usr/lib/os-release",
                          usual=release is None), Place())  # fmt: skip

    def _zone(self) -> None:
        zone = self.image.value.time_zone
        if not zone:
            return
        place = self.image.place("time-zone")
        origin = self._origin(place)
        file = ZONES / zone
        try:
            with file.open("rb") as opened:
                good = opened.read(4) == _ZONE_MAGIC
        except OSError:
            good = False
        if not good:
            known = [path.relative_to(ZONES).as_posix() for path in sorted(ZONES.rglob("*")) if path.is_file()]
            remedy = suggestion(zone, [one for one in known if one[:1].isupper()]) if known else from_package("tzdata")
            self.collector.add(
                Trouble("ZONE-UNKNOWN", f"this machine has no time zone `{zone}`" if known else "this machine has no zone data",
                        place, why="the image takes a copy of its file, unless a package brings zone data", remedy=remedy)
            )  # fmt: skip
            return
        label = ZONE_LABEL + zone
        self.found.places[label] = file
        self.found.files[label] = self.surroundings.file_digest(file, place)
        self._add(OwnPath(path="/etc/localtime", kind="file", mode=0o644, source=label, origin=origin), place)
        self._add(OwnPath(path="/etc/timezone", kind="file", mode=0o644, content=zone + "\n", origin=origin), place)

    def _first_boot(self) -> None:
        found = first_boot_files(self.composition, self.read_only_root, self.collector)
        for own, place in found.own:
            self._add(own, place)
        self.found.programs += found.programs

    # Network

    def _network(self) -> None:
        image, profile = self.image, self.composition.profile
        interfaces = image.value.network
        check_network(interfaces, lambda index, key: image.place("network", str(index), key), self.collector)
        if image.value.firewall:
            place = image.place("firewall")
            label = self._from_file("/etc/nftables.conf", image.folder_of("firewall") / image.value.firewall, place)
            self._add(
                OwnPath(path="/etc/nftables.conf", kind="file", mode=0o600, source=label, origin=self._origin(place)), place
            )
        form = NETWORK_FORMS.get(profile.value.network_form)
        if form is None or not interfaces:
            trouble = unknown("network form", profile.value.network_form, profile.place("network-form"))
            self.collector.extend([trouble] if trouble is not None else [])
            return
        for index, one in enumerate(interfaces):
            place = image.place("network", str(index))
            for lack in form.lacks(one):
                what = f"the interface `{one.name}` does not fit the form `{form.name}`, which never {lack}"
                why = f'the profile says `network-form = "{form.name}"` ({profile.place("network-form").short})'
                self.collector.add(Trouble("NETWORK-FORM", what, place, why=f"{why}, and nothing of it may be lost",
                                           remedy="take that out, or choose another form with its programs"))  # fmt: skip
            if one.wireless is not None:
                self._wireless(one, image.place("network", str(index), "wireless"))
        origin = self._origin(image.place("network", "0"))
        for own in form.write(order_of_network(interfaces)):
            self._add(msgspec.structs.replace(own, origin=origin), image.place("network"))
        lines = resolver_lines(interfaces) if form.resolver else []
        if lines:
            text = "".join(f"{line}\n" for line in lines)
            own = OwnPath(path="/etc/resolv.conf", kind="file", mode=0o644, content=text, origin=origin)
            self._add(own, image.place("network"))

    def _wireless(self, one: Interface, place: Place) -> None:
        assert one.wireless is not None
        key = ""
        if one.wireless.secret:
            try:
                key = self.surroundings.wireless_key(one.wireless.secret, one.wireless.ssid, place)
            except YarrikError as error:
                self.collector.extend(error.troubles)
        path = wireless_path(one.name)
        label = f"wireless network of {one.name}"
        self.found.secret_files[label] = wireless_file(one, key)
        self._add(OwnPath(path=path, kind="file", mode=0o600, source=label, origin=self._origin(place)), place)

    # Laid over

    def _trees(self) -> None:
        for index, tree in enumerate(self.image.value.tree):
            place = self.image.place("tree", str(index))
            top = self.image.folder_of("tree", str(index), "from") / tree.from_folder
            used: set[str] = set()
            paths = list(self._walk(top, place))
            for path, status in paths:
                self._of_tree(tree, top, path, status, place, used)
            for number, rule in enumerate(tree.rule):
                if rule.files not in used and paths:
                    self.collector.add(
                        Trouble("TREE-RULE", f"the rule for {rule.files} fits nothing in {tree.from_folder}",
                                self.image.place("tree", str(index), "rule", str(number)),
                                why="paths are those in the image, from its root", remedy="correct it, or take it out")
                    )  # fmt: skip

    def _walk(self, top: Path, place: Place) -> Iterator[tuple[str, os.stat_result]]:
        """All that is below a folder, sorted, without following links."""
        try:
            if not stat.S_ISDIR(top.lstat().st_mode):
                raise NotADirectoryError(20, "it is not a folder")
            waiting, count = [""], 0
            while waiting:
                below = waiting.pop()
                for entry in sorted(os.scandir(top / below), key=lambda entry: entry.name):
                    count += 1
                    if count > _MOST_PATHS:
                        raise OSError(0, f"it holds more than {_MOST_PATHS} paths")
                    path = f"{below}/{entry.name}" if below else entry.name
                    status = entry.stat(follow_symlinks=False)
                    yield path, status
                    if stat.S_ISDIR(status.st_mode):
                        waiting.append(path)
        except OSError as error:
            self.collector.add(
                Trouble("SOURCE-MISSING", f"cannot read the folder {top}: {error.strerror}", place,
                        why="the image lays it over its packages", remedy="make it, or correct the path")
            )  # fmt: skip

    def _of_tree(self, tree: ImageTree, top: Path, path: str, status: os.stat_result, place: Place, used: set[str]) -> None:
        inside = f"{tree.to.rstrip('/')}/{path}"
        rule = TreeRule(files="")
        for one in tree.rule:
            if _fits(one.files, inside):
                used.add(one.files)
                rule = TreeRule(files="", owner=one.owner or rule.owner, group=one.group or rule.group,
                                mode=one.mode or rule.mode,
                                template=rule.template if one.template is None else one.template)  # fmt: skip
        kind = stat.S_IFMT(status.st_mode)
        mode = int(rule.mode, 8) if rule.mode else 0
        if kind == stat.S_IFDIR:
            mode = mode | (mode & 0o444) >> 2 if mode else 0o755
        elif kind == stat.S_IFREG:
            mode = mode or (0o755 if status.st_mode & 0o100 else 0o644)
        common = {"path": inside, "owner": rule.owner or "root", "group": rule.group, "origin": self._origin(Place(top / path)),
                  "replaces": tree.replaces}  # fmt: skip
        if kind == stat.S_IFDIR:
            self._add(OwnPath(kind="folder", mode=mode, **common), place)  # type: ignore[arg-type]
        elif kind == stat.S_IFLNK:
            target = os.readlink(top / path)
            self._add(OwnPath(kind="link", mode=0o777, content=target, **common), place)  # type: ignore[arg-type]
        elif kind != stat.S_IFREG:
            self.collector.add(
                Trouble("TREE-KIND", f"{path} in {tree.from_folder} is neither a file nor a folder nor a link", place,
                        why="a shelf holds no devices, pipes or sockets", remedy="remove it; device nodes are [[node]]s")
            )  # fmt: skip
        elif rule.template:
            text = self._template(top / path, Place(top / path))
            self._add(OwnPath(kind="file", mode=mode, content=text, **common), place)  # type: ignore[arg-type]
        else:
            label = self._from_file(inside, top / path, place)
            self._add(OwnPath(kind="file", mode=mode, source=label, **common), place)  # type: ignore[arg-type]

    def _files(self) -> None:
        image = self.image
        for index, file in enumerate(image.value.file):
            place = image.place("file", str(index))
            if (file.content is None) == (not file.from_file):
                self.collector.add(
                    Trouble("IMAGE-FILE", f"the file {file.path} must have either `content` or `from`", place,
                            remedy="keep one of the two")
                )  # fmt: skip
                continue
            self._file(file, index, place)

    def _file(self, file: ImageFile, index: int, place: Place) -> None:
        here = self.image.folder_of("file", str(index), "from") / file.from_file if file.from_file else Path()
        content, source = file.content or "", ""
        if file.template:
            content = self._template(here, Place(here)) if file.from_file else self._filled(content, place, 0)
        elif file.from_file:
            source = self._from_file(file.path, here, place)
        self._add(
            OwnPath(path=file.path, kind="file", mode=int(file.mode, 8), content=content, source=source, owner=file.owner,
                    group=file.group, replaces=(file.replaces,) if file.replaces else (), surely=bool(file.replaces),
                    origin=self._origin(place)),
            place, "file", str(index),
        )  # fmt: skip

    def _from_file(self, path: str, file: Path, place: Place) -> str:
        self.found.places[path] = file
        try:
            self.found.files[path] = self.surroundings.file_digest(file, place)
        except YarrikError as error:
            self.collector.extend(error.troubles)
        return path

    def _others(self) -> None:
        image = self.image
        for index, folder in enumerate(image.value.folder):
            place = image.place("folder", str(index))
            self._add(OwnPath(path=folder.path, kind="folder", mode=int(folder.mode, 8), owner=folder.owner, group=folder.group,
                              origin=self._origin(place)), place, "folder", str(index))  # fmt: skip
        for index, node in enumerate(image.value.node):
            place = image.place("node", str(index))
            self._add(OwnPath(path=node.path, kind=node.kind, mode=int(node.mode, 8), owner=node.owner, group=node.group,
                              device=(node.major, node.minor), origin=self._origin(place)),
                      place, "node", str(index))  # fmt: skip
        for index, link in enumerate(image.value.link):
            place = image.place("link", str(index))
            replaces = (link.replaces,) if link.replaces else ()
            self._add(OwnPath(path=link.path, kind="link", mode=0o777, content=link.to, origin=self._origin(place),
                              replaces=replaces, surely=bool(replaces)), place)  # fmt: skip

    # Templates

    def _template(self, file: Path, place: Place) -> str:
        try:
            with file.open("rb") as opened:
                data = opened.read(_LARGEST_TEMPLATE + 1)
            if len(data) > _LARGEST_TEMPLATE:
                raise OSError(0, "it is larger than 1 MiB")
            text = data.decode()
        except (OSError, UnicodeDecodeError) as error:
            reason = error.strerror if isinstance(error, OSError) else "it is not UTF-8 text"
            self.collector.add(Trouble("SOURCE-MISSING", f"cannot read the template {file}: {reason}", place,
                                       why="the definition names it", remedy="correct the path, or the file"))  # fmt: skip
            return ""
        return self._filled(text, place, 1)

    def _filled(self, text: str, place: Place, first: int) -> str:
        """A template's text, filled in. Its first line is line `first` of the place's file; 0 for one inside a definition."""
        names = self._names()
        try:
            return filled(text, names)
        except TemplateUnfit as error:
            where = Place(place.file, error.line or 1) if first else place
            line = "" if first or not error.line else f" (line {error.line} of `content`)"
            self.collector.add(
                Trouble("TEMPLATE-UNFIT", f"the template cannot be filled in{line}: {error}", where,
                        why="what it stands for would be missing on the board",
                        remedy=f"names here are {', '.join(sorted(names))}; your own are in the image's [values]")
            )  # fmt: skip
            return ""

    def _names(self) -> dict[str, object]:
        composition = self.composition
        return {
            "arch": self.arch, "board": composition.board.name, "hostname": composition.hostname, "image": self.image.name,
            "product": composition.name, "profile": composition.profile.name, "values": dict(self.image.value.values),
        }  # fmt: skip


def services_of(
    composition: Composition, asked: Iterable[AskedService], accounts: Accounts, collector: Collector
) -> tuple[tuple[OneService, ...], dict[str, Place]]:
    """The services that may be in the image, and where each is said. What cannot work goes to `collector`."""
    usual = usual_services(composition)
    said = {one.name: _place_of_usual(one, composition.image) for one in usual}
    usual = tuple(msgspec.structs.replace(one, origin=origin_of(said[one.name], composition)) for one in usual)
    services, places = settle_services(composition.image, asked, lambda place: origin_of(place, composition), collector, usual)
    services = _after_first_boot(services)
    shared = [name for name, value in image_variables(composition).items() if value]
    check_services(services, accounts, places, collector, complete=False, shared=shared)
    return services, said | places


def image_variables(composition: Composition) -> dict[str, str]:
    """The image's own variables, which logins and all services get."""
    image = composition.image.value
    return ({"LANG": image.locale} if image.locale else {}) | image.environment


def usual_services(composition: Composition) -> tuple[OneService, ...]:
    """The services that follow from the image: one that sets interfaces up, where the profile's form has one and there are any;
    one for the first start."""
    image = composition.image.value
    form = NETWORK_FORMS.get(composition.profile.value.network_form)
    init, first = composition.profile.value.init_path, first_boot_service(image)
    network = form.services(init, image.network) if form is not None and image.network else ()
    return (*network, *((first,) if first is not None else ()))


def _place_of_usual(one: OneService, image: Definition[Image]) -> Place:
    """What a service follows from."""
    if one.name != FIRST_BOOT:
        return image.place("network", "0")
    return image.place(*image.value.first_boot_keys)


def _after_first_boot(services: tuple[OneService, ...]) -> tuple[OneService, ...]:
    """Every service starts after what is due at the first start, but for those that this waits for itself."""
    first = next((one for one in services if one.name == FIRST_BOOT), None)
    if first is None:
        return services
    names, before, waiting = {one.name: one for one in services}, {FIRST_BOOT}, [FIRST_BOOT]
    while waiting:
        one = names.get(waiting.pop())
        new = {*one.after, *one.needs} - before if one is not None else set()
        before |= new
        waiting += sorted(new)
    return tuple(
        one if one.name in before or FIRST_BOOT in one.after
        else msgspec.structs.replace(one, after=(*one.after, FIRST_BOOT)) for one in services
    )  # fmt: skip


def _fits(pattern: str, path: str) -> bool:
    parts = re.split(r"(\*\*|\*)", pattern.rstrip("/"))
    form = "".join(".*" if part == "**" else "[^/]*" if part == "*" else re.escape(part) for part in parts)
    return re.fullmatch(f"{form}(/.*)?" if "*" not in pattern.rpartition("/")[2] else form, path, re.DOTALL) is not None


def _escaped(value: str) -> str:
    """A value inside a double-quoted word of the service manager's settings (systemd.syntax(7), and no specifier is meant)."""
    return value.replace("\\", "\\\\").replace('"', '\\"').replace("%", "%%")


def _quoted(value: str) -> str:
    """A value as shells and os-release(5) read it: in double quotes, with `"`, `$`, backquote and backslash escaped."""
    if re.fullmatch(r"[A-Za-z0-9_./:+-]+", value):
        return value
    return '"' + re.sub(r'(["$`\\])', r"\\\1", value) + '"'
