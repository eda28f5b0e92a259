"""What the bench board looks at in the root filesystem: init, its libraries, services, modules."""

from __future__ import annotations

import contextlib
import io
import posixpath
import re
from collections.abc import Callable, Iterator
from typing import NamedTuple, NoReturn, Protocol

from yarrik.boot.seen import Filesystem
from yarrik.devicetree import DeviceTree, text_of
from yarrik.disk import Found
from yarrik.elf import ElfFacts, elf_facts
from yarrik.errors import Damaged, listed
from yarrik.patterns import lazy_pattern
from yarrik.resolve import library_places, unsearched

_PROGRAM_LIMIT = 256 << 20
#: Scripts of which each runs the one before: the kernel goes no further (`exec_binprm` in fs/exec.c).
_DEEPEST_SCRIPT = 5
_SERVICE_FOLDERS = ("/etc/services",)
_UNIT_FOLDERS = ("/etc/systemd/system", "/usr/lib/systemd/system", "/lib/systemd/system")
#: Daemons that let people log in over a network: `in.telnetd` as well as `telnetd`.
_REMOTE_LOGIN = lazy_pattern(r"(?:sshd|telnetd|rlogind|rshd|ttyd)\Z")
#: What a secure shell says of itself first (RFC 4253, 4.2). In a folder for system programs that is the server.
_SECURE_SHELL = b"SSH-2.0-"
_LOADERS = ("modprobe", "insmod", "udevd", "systemd-udevd", "mdev", "kmod")
_PATH = ("/usr/local/sbin", "/usr/local/bin", "/usr/sbin", "/usr/bin", "/sbin", "/bin")
#: Programs that load a driver when a device shows up.
_HOTPLUG = ("udevd", "systemd-udevd", "mdev")


class _Use(NamedTuple):
    """A library that is there for a kind of device: the kernel's option, and the paths of modules that drive one."""

    library: str
    what: str
    option: str
    drivers: re.Pattern[str] | None = None


_DEVICES = (
    _Use(
        "libdrm.so.", "screens", "DRM", lazy_pattern(r"/drivers/gpu/drm/(?!bridge/|panel/|display/|scheduler/)[^/]+/[^/]+\.ko")
    ),
    _Use("libasound.so.", "sound", "SND"),
    _Use("libevdev.so.", "keys", "INPUT_EVDEV", lazy_pattern(r"/evdev\.ko")),
    _Use("libinput.so.", "keys", "INPUT_EVDEV", lazy_pattern(r"/evdev\.ko")),
    _Use("libusb-1.0.so.", "USB devices", "USB"),
    _Use("libgpiod.so.", "pins", "GPIO_CDEV"),
)
#: Libraries that do nothing without data that comes in other packages: what, where, and a package that has it.
_DATA = (
    ("libfreetype.so.", "a font", (lazy_pattern(r"\.(?:otf|ttf|ttc|pfb|pcf|bdf|font)(?:\.gz)?\Z"),), "font-sans"),
    ("libfontconfig.so.", "its configuration", (lazy_pattern(r"\A/etc/fonts/fonts\.conf\Z"),), "fontconfig"),
    (
        "libxkbcommon.so.",
        "descriptions of keyboards",
        (lazy_pattern(r"/X11/xkb/"), lazy_pattern(r"/xkeyboard-config")),
        "xkeyboard-config",
    ),
)
#: What a module says that it is for, where that is a node of the device tree: any name, any type, and a word of `compatible`.
_OF_ALIAS = lazy_pattern(r"of:N\*T\*C([^*]+?)(?:C\*)?")
_BANNER = lazy_pattern(rb"Linux version (\d+\.[0-9A-Za-z.+~_-]+) \(")


class _Stop(Protocol):
    def __call__(self, code: str, what: str, why: str, remedy: str, key: str = "") -> NoReturn: ...


class _Warn(Protocol):
    def __call__(self, code: str, what: str, why: str, remedy: str, key: str = "") -> None: ...


class RootChecks:
    def __init__(
        self,
        root: Filesystem,
        arch: str,
        config: dict[str, str] | None,
        tree: DeviceTree | None,
        tell: Callable[[str, str], None],
        stop: _Stop,
        warn: _Warn,
    ) -> None:
        self.root, self.arch, self.config, self.tree = root, arch, config, tree
        self.tell, self.stop, self.warn = tell, stop, warn
        # Most programs need the same libraries, and several services may start the same program: each is read once.
        self._libraries: dict[str, ElfFacts | None] = {}
        self._needed_by: dict[str, int] = {}  # libraries, by the path of a program that can start

    # Programs

    def init(self, path: str) -> None:
        found = self.root.follow(path)
        if found is None or found.kind != "file":
            self.stop(
                "BOOT-INIT",
                f"there is no init at {path}",
                "the kernel would panic: no working init found",
                "name the package that brings it in the profile's `init`, and its path in `init-path`",
            )
        if self.root.reader.form[:3] != "FAT" and not found.mode & 0o111:
            self.stop(
                "BOOT-INIT",
                f"the init {path} is not executable (its mode is {found.mode & 0o7777:04o})",
                "the kernel would panic: it may not start it",
                "give it the mode 0755 where it is installed",
            )
        libraries = self.program(path, f"the init {path}", "BOOT-INIT")
        if self.config is not None and self.config.get("BINFMT_ELF", "y") != "y":
            self.stop(
                "BOOT-KERNEL-LACKS",
                "the kernel lacks CONFIG_BINFMT_ELF",
                "it could not start a single program",
                "add CONFIG_BINFMT_ELF=y to a fragment",
                "kernel.recipe",
            )
        what = f"{path} for {self.arch}, executable"
        self.tell("init", what + (f"; {libraries} libraries are there" if libraries else ", needs no library"))

    def program(self, path: str, whose: str, code: str, depth: int = 0) -> int:
        """Checks that a program can start; returns how many libraries it needs. `depth` scripts are run by it."""
        if path in self._needed_by:
            return self._needed_by[path]
        data = self.root.content(path, _PROGRAM_LIMIT)
        if data[:2] == b"#!":
            words = [word.decode("utf-8", "replace") for word in data[2:].split(b"\n", 1)[0].split()]
            shell = words[0] if words else ""
            if shell.rpartition("/")[2] == "env" and self.root.has(shell) and len(words) > 1:
                # env(1) looks the name up in PATH; an option or a setting may come before it.
                name = next((word for word in words[1:] if not word.startswith("-") and "=" not in word), "")
                found = next((f"{folder}/{name}" for folder in _PATH if self.root.has(f"{folder}/{name}")), None)
                shell = found or f"{name} (through env)"
            if not self.root.has(shell):
                self.stop(
                    code,
                    f"{whose} is a script for {shell or 'nothing'}, which is not there",
                    "it cannot be started",
                    "add the package that brings it",
                )
            if depth == _DEEPEST_SCRIPT:
                self.stop(
                    code,
                    f"{whose} is a script too, for {shell}",
                    f"the kernel follows {_DEEPEST_SCRIPT} scripts, each of which runs the one before, and no more",
                    "let the first script name a program",
                )
            return self.program(shell, f"{shell}, which runs {whose.removesuffix(',')},", code, depth + 1)
        facts = self.facts(data, path, whose, code)
        if facts.arch != self.arch and not (self.arch == "arm64" and facts.arch == "arm"):
            self.stop(
                code,
                f"{whose} is built for {facts.arch}, and the kernel for {self.arch}",
                "the kernel cannot start it",
                "build it with the board's toolchain",
            )
        # A script is followed anew each time: how many run each other depends on where one begins.
        count = self._needed_by[path] = self.libraries(facts, path, whose)
        return count

    def facts(self, data: bytes, path: str, whose: str, code: str) -> ElfFacts:
        try:
            facts = elf_facts(io.BytesIO(data))
        except Damaged as error:
            self.stop(code, f"{whose} is damaged: {error}", "the kernel cannot start it", "build it again")
        if facts is None:
            self.stop(
                code,
                f"{whose} is not a program: it is neither an ELF file nor a script",
                "the kernel cannot start it",
                "check what the package installs there",
            )
        return facts

    def libraries(self, facts: ElfFacts, path: str, whose: str) -> int:
        seen: set[str] = set()
        waiting = [(facts, path)]
        if facts.interpreter and not self.root.has(facts.interpreter):
            self.stop(
                "LIBRARY-MISSING",
                f"{whose} needs the loader {facts.interpreter}, which is not in the image",
                "it could not be started",
                "add the C library's package",
            )
        while waiting:
            needs, user = waiting.pop()
            for name in needs.needed:
                if name in seen:
                    continue
                seen.add(name)
                places = library_places(name, user, needs)
                if facts.interpreter.endswith("/" + name):
                    places.append(facts.interpreter)
                place = next((one for one in places if self.root.has(one)), None) or self._configured(name)
                if place is None:
                    self._unsearched(name, user, places)
                    self.stop(
                        "LIBRARY-MISSING",
                        f"{user} needs {name}, which is not in the image",
                        f"{whose} could not be started",
                        "add the package that brings it",
                    )
                library = self._library(place)
                if library is not None:
                    waiting.append((library, place))
        return len(seen)

    def _library(self, place: str) -> ElfFacts | None:
        """The facts of a library; None for a file that is none. Raises ValueError for one that is damaged."""
        if place not in self._libraries:
            self._libraries[place] = elf_facts(io.BytesIO(self.root.content(place, _PROGRAM_LIMIT)))
        return self._libraries[place]

    def _configured(self, name: str) -> str | None:
        """Where a library is when the loader's own configuration leads there: glibc's cache, or the path of musl's loader."""
        found = [path for path in self.root.paths if path.endswith("/" + name)]
        cache = self.root.content("/etc/ld.so.cache", _PROGRAM_LIMIT) if found and self.root.has("/etc/ld.so.cache") else b""
        musl = [path for path in self.root.paths if re.fullmatch(r"/etc/ld-musl-[^/]+\.path", path)]
        folders = {folder for path in musl for line in self._lines(path) for folder in line.split(":")}
        return next((path for path in found if path.encode() + b"\0" in cache or path.rpartition("/")[0] in folders), None)

    def _unsearched(self, name: str, user: str, places: list[str]) -> None:
        """Stops with the reason when the library is there, and the loader does not look where it is."""
        found = sorted(path for path in self.root.paths if path.endswith("/" + name))
        if found:
            folders = dict.fromkeys(place.rpartition("/")[0] for place in places)
            trouble = unsearched(user, name, f"it is {found[0]}", found[0], folders)
            self.stop(trouble.code, trouble.what, trouble.why, trouble.remedy)

    def links(self) -> None:
        """Links that lead nowhere, but for those into what only a running system has."""
        running = re.compile(r"/(?:proc|sys|dev|run|tmp|var/run|var/lock|var/tmp)(?:/|\Z)")
        for path, found in self.root.paths.items():
            if found.kind != "link":
                continue
            target = posixpath.normpath(posixpath.join(path.rpartition("/")[0] or "/", found.target))
            if not running.match(target) and not running.match(path) and self.root.follow(path) is None:
                self.warn(
                    "LINK-NOWHERE",
                    f"the link {path} leads to {found.target}, which is not in the image",
                    "following it leads nowhere",
                    "take the link out, or add the package that brings what it leads to",
                )

    # Services

    def services(self) -> None:
        users = {line.split(":")[0] for line in self._lines("/etc/passwd")}
        count = 0
        for file in self._enabled():
            count += 1
            settings = self._settings(file)
            command = settings.get("run") or settings.get("ExecStart", "")
            program = command.split()[0].lstrip("-@:+!") if command.split() else ""
            self._started(program, f"the service {file}")
            user = settings.get("user") or settings.get("User", "")
            if user and user not in users and not user.isdigit():
                self.stop(
                    "SERVICE-USER",
                    f"the service {file} runs as `{user}`, and there is no such account",
                    "it would fail at each start",
                    "add the user to the image",
                )
        for program, line in self._inittab():
            count += 1
            self._started(program, f"/etc/inittab ({line})")
        if count:
            self.tell("services", f"{count} enabled; programs and users are there")

    def _started(self, program: str, whose: str) -> None:
        """Stops at a program that a service cannot start: not there, not executable, or a script without its interpreter."""
        if not program.startswith("/"):
            return
        found = self.root.follow(program)
        if found is None or found.kind != "file":
            self.stop(
                "SERVICE-PROGRAM",
                f"{whose} starts {program}, which is not in the image",
                "it would fail at each start",
                "add the package that brings it, or take the service out",
            )
        if self.root.reader.form[:3] != "FAT" and not found.mode & 0o111:
            self.stop(
                "SERVICE-PROGRAM",
                f"{whose} starts {program}, which is not executable (its mode is {found.mode & 0o7777:04o})",
                "it would fail at each start",
                "give it the mode 0755 where it is installed",
            )
        with contextlib.suppress(Damaged):
            if program in self._needed_by or self.root.content(program, _PROGRAM_LIMIT).startswith((b"\x7fELF", b"#!")):
                self.program(program, f"{program}, which {whose} starts,", "SERVICE-PROGRAM")

    def _inittab(self) -> list[tuple[str, str]]:
        """Programs that an inittab starts, each with its line (inittab(5): id, levels, action, process)."""
        found = []
        for line in self._lines("/etc/inittab"):
            words = line.split(":", 3)
            if line.startswith("#") or len(words) < 4 or words[2] in ("ctrlaltdel", "shutdown", "off", "initdefault"):
                continue
            command = words[3].lstrip("-@+ ").split()
            if command:
                found.append((command[0], line.strip()))
        return found

    # Logging in

    def logins(self) -> None:
        """Whether somebody can log in, and nobody whom no one wants: accounts without a password beside a remote login."""
        accounts = [line.split(":") for line in self._lines("/etc/passwd") if line.count(":") >= 6]
        secrets = {words[0]: words[1] for line in self._lines("/etc/shadow") if len(words := line.split(":")) > 1}
        if not accounts:
            return
        shells = [one for one in accounts if not one[6].endswith(("/false", "/nologin")) and (one[6] or "/bin/sh")]
        for one in shells:
            shell = one[6] or "/bin/sh"
            if not self.root.has(shell):
                self.warn(
                    "LOGIN-NO-SHELL",
                    f"the shell of `{one[0]}`, {shell}, is not in the image",
                    "a login with this account ends at once",
                    "add the package that brings it, or name another shell",
                )
        secret = {one[0]: secrets.get(one[0], "!") if one[1] == "x" else one[1] for one in shells}
        open_ones = [name for name, value in secret.items() if value == ""]
        remote = sorted(found.path for found in self._programs() if self._lets_in(found)) if open_ones else []
        if remote:
            self.stop(
                "LOGIN-OPEN",
                f"`{open_ones[0]}` needs no password, and {remote[0]} lets people log in over the network",
                "everybody on the network can log in as this user",
                "lock the account or give it a password (`root.login`), or take the service out",
            )
        keys = any(path.endswith("/authorized_keys") for path in self.root.paths)
        if not any(value == "" or value.startswith("$") for value in secret.values()) and not keys and self._has_getty():
            self.warn(
                "LOGIN-NOBODY",
                "a login is offered, and no account has a password, an empty one, or a key",
                "nobody can log in",
                "set the image's `root.login`, or take the login out",
            )

    def _lets_in(self, found: Found) -> bool:
        """Whether a program lets people log in over the network."""
        folder, _, name = found.path.rpartition("/")
        if _REMOTE_LOGIN.search(name):
            return True
        if not folder.endswith("sbin") or found.kind != "file" or found.size > _PROGRAM_LIMIT:
            return False
        with contextlib.suppress(Damaged):
            return _SECURE_SHELL in self.root.content(found.path, _PROGRAM_LIMIT)
        return False

    def _has_getty(self) -> bool:
        logins = ("getty", "agetty", "mgetty", "login")
        there = any(found.path.rpartition("/")[2] in logins for found in self._programs())
        return there or any("getty" in line for line in self._lines("/etc/inittab"))

    def _enabled(self) -> list[str]:
        files = {path for folder in _SERVICE_FOLDERS for path in self.root.below(folder) if path.endswith(".service")}
        wants = re.compile(r"/(?:etc|(?:usr/)?lib)/systemd/system/[^/]+\.(?:wants|requires)/([^/@]+\.service)\Z")
        for path in self.root.paths:
            match = wants.match(path)
            if match:
                place = next(
                    (f"{folder}/{match.group(1)}" for folder in _UNIT_FOLDERS if self.root.has(f"{folder}/{match.group(1)}")),
                    "",
                )
                if not place:
                    self.stop(
                        "SERVICE-PROGRAM",
                        f"the service {match.group(1)} is enabled, and there is no such unit",
                        "it would fail at each start",
                        "add the package that brings it",
                    )
                files.add(place)
        return sorted(files)

    def _lines(self, path: str) -> list[str]:
        return self.root.text(path).splitlines() if self.root.has(path) else []

    def _settings(self, path: str) -> dict[str, str]:
        found: dict[str, str] = {}
        for line in self._lines(path):
            key, equals, value = line.partition("=")
            if equals and not line.lstrip().startswith(("#", ";")):
                found.setdefault(key.strip(), value.strip())
        return found

    # Modules

    def modules(self, kernel: bytes) -> None:
        begin = re.compile(r"(?:/usr)?/lib/modules/([^/]+)/")
        versions = sorted({match.group(1) for path in self.root.paths if (match := begin.match(path))})
        if not versions:
            self._named_are_there("", self._named())
            return
        banner = _BANNER.search(kernel)
        version = banner.group(1).decode() if banner else ""
        if version and version not in versions:
            self.stop(
                "MODULES-VERSION",
                f"the modules are for {', '.join(versions)}, and the kernel is {version}",
                "it would load none of them",
                "install modules and kernel from one build",
            )
        known = version or versions[0]
        wanted = {driver: node for driver, node in self._wanted(known).items() if driver not in self._named()}
        self._named_are_there(known, self._named())
        self.nodes(known)
        loader = next((found for found in self._programs() if found.path.rpartition("/")[2] in _LOADERS), None)
        if wanted and loader is None:
            driver, node = next(iter(wanted.items()))
            self.stop(
                "MODULES-NOBODY",
                f"{node} of the device tree needs the module {driver}, and nothing in the image loads modules",
                "the device would not work",
                f"build {driver} into the kernel, or add a package with modprobe",
            )
        count = sum(
            1
            for path in self.root.paths
            if f"/modules/{known}/" in path and path.endswith((".ko", ".ko.xz", ".ko.zst", ".ko.gz"))
        )
        self.tell("modules", f"{count} for {known}" + (f"; {len(wanted)} that the device tree needs" if wanted else ""))

    def devices(self) -> None:
        """Names libraries for devices that no driver would be loaded for, and those whose data is missing."""
        libraries = {path.rpartition("/")[2]: path for path in sorted(self.root.paths) if ".so." in path}
        for use in _DEVICES:
            name = next((name for name in libraries if name.startswith(use.library)), None)
            problem = self._undriven(use) if name is not None else None
            if problem is not None:
                self.warn(
                    "DEVICE-DRIVER",
                    f"{libraries[name or '']} is for {use.what}, and {problem[0]}",
                    f"programs would find no {use.what}",
                    problem[1],
                )
        for library, what, places, package in _DATA:
            name = next((name for name in libraries if name.startswith(library)), None)
            if name is not None and not any(place.search(path) for path in self.root.paths for place in places):
                self.warn(
                    "DATA-MISSING",
                    f"{libraries[name]} needs {what}, and there is none in the image",
                    "programs would start, and show nothing or give up",
                    f"add a package that brings it, like {package}",
                )

    def _undriven(self, use: _Use) -> tuple[str, str] | None:
        """Why nothing would drive a kind of device, and what to do; None where something would, or where it is not known."""
        if self.config is None:
            return None
        if self.config.get(use.option, "n") not in ("y", "m"):
            return f"the kernel has no CONFIG_{use.option}", f"yarrik kernel set {use.option}=y, and the driver of the device"
        lists = [path for path in self.root.paths if path.rpartition("/")[2] in ("modules.dep", "modules.builtin")]
        if not lists and self.config[use.option] == "m":
            return (
                f"CONFIG_{use.option} is a module, and there are no modules in the image",
                "build it in, or add them",
            )
        if not lists or not use.drivers:
            return None
        built_in = {one for path in lists if path.endswith(".builtin") for one in self._lines(path)}
        needs = {line.partition(":")[0]: line.partition(":")[2].split()
                 for path in lists if path.endswith(".dep") for line in self._lines(path)}  # fmt: skip
        drivers = [path for path in needs if use.drivers.search(path)]
        if any(use.drivers.search(path) for path in built_in):
            return None
        if not drivers:
            return "the kernel has no driver for any", "build the driver of the device into the kernel, or as a module"
        if any(found.path.rpartition("/")[2] in _HOTPLUG for found in self._programs()):
            return None
        named = self._named()
        loaded = {path for path in needs if _module(path) in named}
        loaded |= {need for path in loaded for need in needs[path]}
        if loaded & set(drivers):
            return None
        names = ", ".join(sorted(_module(path) for path in drivers)[:4])
        return f"nothing loads a driver for any ({names})", "name it in /etc/modules, or add a device manager"

    def nodes(self, version: str) -> None:
        """Names modules that init loads for a device that only a device tree can name, and that this one does not have: an
        overlay that is missing, another spelling, or a node that is disabled."""
        if self.tree is None:
            return
        aliases = self._aliases(version)
        nodes = list(self._compatible())
        for module in sorted(self._named() & set(aliases)):
            words = sorted(word for word in aliases[module] if word is not None)
            if None in aliases[module] or not words:
                continue  # devices of another bus say themselves what they are
            there = [(path, enabled) for word, path, enabled in nodes if word in words]
            if any(enabled for _, enabled in there):
                continue
            what = f"init loads {module} for {listed(f'`{word}`' for word in words[:3])}"
            if there:
                problem = f"the node {there[0][0]} of the device tree is disabled"
                remedy = 'set its `status = "okay"` in the device tree or an overlay'
            else:
                problem = "no node of the device tree has that as `compatible`"
                remedy = "add the overlay that describes the device to `kernel.overlays`"
            self.warn("DEVICE-NODE", f"{what}, and {problem}", "the driver drives nothing", remedy, "kernel.overlays")

    def _aliases(self, version: str) -> dict[str, set[str | None]]:
        """What each module of modules.alias is for: words of `compatible`, and None for devices of another bus."""
        found: dict[str, set[str | None]] = {}
        for top in ("/lib", "/usr/lib"):
            for line in self._lines(f"{top}/modules/{version}/modules.alias"):
                words = line.split()
                if len(words) == 3 and words[0] == "alias":
                    match = _OF_ALIAS.fullmatch(words[1])
                    found.setdefault(words[2].replace("-", "_"), set()).add(match.group(1) if match else None)
        return found

    def _compatible(self) -> Iterator[tuple[str, str, bool]]:
        """Each word of `compatible` in the device tree, with its node, and whether that and all above it are enabled."""
        off: tuple[str, ...] = ()
        for path, node in self.tree.root.walk() if self.tree is not None else ():
            status, item = node.properties.get("status"), node.properties.get("compatible")
            if status is not None and text_of(status.value) not in ("okay", "ok"):
                off = (*off, path)
            enabled = not any(path == one or path.startswith(f"{one}/") for one in off)
            for word in item.value.decode("ascii", "replace").split("\0") if item is not None else ():
                if word:
                    yield word, path, enabled

    def _named_are_there(self, version: str, named: set[str]) -> None:
        """Stops at a module that init is configured to load and cannot find: the list of modules has to have it."""
        folders = [f"{top}/modules/{version}" for top in ("/lib", "/usr/lib")]
        listed = {
            line.partition(":")[0].rpartition("/")[2].partition(".ko")[0].replace("-", "_")
            for folder in folders
            for name in ("modules.dep", "modules.builtin")
            for line in self._lines(f"{folder}/{name}")
        }
        missing = sorted(named - listed)
        if missing:
            where = f"modules.dep of {version} does not have it" if version else "there are no modules in the image"
            self.stop(
                "MODULES-MISSING",
                f"init is configured to load {missing[0]}, and {where}",
                "what it drives would not work",
                "add the package that brings it, or take its name out",
            )

    def _named(self) -> set[str]:
        """Modules that init is configured to load."""
        files = ["/etc/modules", *(path for path in self.root.below("/etc/modules-load.d") if path.endswith(".conf"))]
        lines = [line.strip() for file in files for line in self._lines(file)]
        return {line.replace("-", "_") for line in lines if line and not line.startswith("#")}

    def _programs(self) -> list[Found]:
        return [
            found for path, found in self.root.paths.items() if path.rpartition("/")[0].endswith("bin") or "/systemd" in path
        ]

    def _wanted(self, version: str) -> dict[str, str]:
        """Modules that enabled devices of the device tree ask for, each with the device."""
        drivers: dict[str, str] = {}
        for module, words in self._aliases(version).items():
            for word in words:
                if word is not None:
                    drivers.setdefault(word, module)
        found: dict[str, str] = {}
        for word, path, enabled in self._compatible():
            if enabled and word in drivers:
                found.setdefault(drivers[word], path)
        return found


def _module(path: str) -> str:
    """The name of a module in modules.dep."""
    return path.rpartition("/")[2].partition(".ko")[0].replace("-", "_")
