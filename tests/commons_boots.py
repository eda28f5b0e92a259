"""An image of upstream programs from the shelf that comes with Yarrik, started in the emulator with the real kernel: somebody logs
in over the network with a key, and uses it.

`make commons-boots` runs the first class, `make commons-boots-more` the others. They are not part of `make test`, since kernel and
programs take many minutes to build the first time, and their sources come from a Debian archive."""

from __future__ import annotations

import hashlib
import json
import os
import shutil
import socket
import subprocess
import sys
import tempfile
import time
import tomllib
import unittest
from pathlib import Path

from yarrik.model import BUILT_IN_SHELVES

ROOT = Path(os.environ.get("YARRIK_COMMONS", "build/commons")).resolve()
ENVIRONMENT = {**os.environ, "NO_COLOR": "1"}
#: What is used here: of a dozen recipes. `YARRIK_COMMONS_ALL=1` takes all that are tried below.
FEW = ["bzip2", "dash", "less", "lua", "lz4", "openssh-server", "openssh-sftp", "sqlite", "xz"]
MORE = [
    "bash", "ca-certificates", "coreutils", "curl", "dbus", "disk-tools", "e2fsprogs", "e2fsprogs-more", "ethtool", "file",
    "findutils", "font-sans", "fontconfig-tools", "gawk", "gdbserver", "gpiod-tools", "grep", "gzip", "htop", "iproute2",
    "jpeg-tools", "jq", "kmod", "libc-development", "libcap-tools", "lighttpd", "make", "mosquitto", "mosquitto-clients", "mount", "mtd-utils", "nano", "openssl",
    "picocom", "procps", "psmisc", "python", "rsync", "sed", "socat", "strace", "tar", "tcc", "tmux", "uboot-tools",
    "util-linux", "zstd",
]  # fmt: skip
ALL = os.environ.get("YARRIK_COMMONS_ALL") == "1"
PACKAGES = [*FEW, *(MORE if ALL else ())]
#: Typed on the board, with what has to come back.
USES = {
    "sqlite3 :memory: 'select 6*7, upper(\"tide\")'": "42|TIDE",
    "lua -e 'print(string.rep(\"gull \", 2), 7 // 2)'": "gull gull \t3",
    "cd /tmp && for one in bzip2 xz 'lz4 -q'; do echo 123 | $one -c | $one -dc; done": "123\n123\n123\n",
    "less --version": "less 590",
    "echo $0; echo $HOME": "/home/keeper",
    "(exit 3) || echo $((0x20 + 2))": "34",
}
MORE_USES = {
    "echo high low high | sed s/high/ebb/g | grep -c ebb": "1",
    "cd /tmp && echo level > r && tar -cJf r.tar.xz r && tar -xOf r.tar.xz r": "level",
    "cd /tmp && for one in gzip 'zstd -q'; do echo 123 | $one -c | $one -dc; done | grep -c 123": "2",
    "find /etc/ssh -name '*_config'": "/etc/ssh/sshd_config",
    "TERM=xterm htop --version": "htop 3.2.2",
    "nano --version | grep -o 'version 7.2'": "version 7.2",
    "bash -c 'a=(ebb flood); echo ${a[1]^^} ${#a[@]}'": "FLOOD 2",
    "printf 'pier 3\\nmole 4\\n' | gawk '{ s += $2 } END { print s }'": "7",
    "echo '{\"gauge\": [{\"level\": 412}]}' | jq '.gauge[0].level + 1'": "413",
    "seq 3 | sort -r | tr '\\n' ' '; date -u -d @0 +%Y": "3 2 1 1970",
    "pgrep -o sshd >/dev/null && free -m | grep -c Mem": "1",
    "pstree | grep -o sshd | head -1": "sshd",
    "lsblk -rno NAME | head -1; findmnt -no FSTYPE /": "vda\next4",
    "/sbin/ip -4 -br addr show eth0": "10.0.2.15/24",
    "PATH=$PATH:/sbin:/usr/sbin; kmod --version | head -1; ethtool --version": "kmod version 30\nethtool version 6.1",
    "cd /tmp && truncate -s 4M d && /sbin/mke2fs -q -t ext4 d && /sbin/e2fsck -fn d >/dev/null && echo sound": "sound",
    "cd /tmp && openssl genpkey -algorithm ed25519 -out k && echo tide > m && openssl pkeyutl -sign -rawin -inkey k -in m -out s && "
    "openssl pkeyutl -verify -rawin -inkey k -in m -sigfile s": "Signature Verified Successfully",
    "file /bin/dash": "ELF 64-bit LSB",
    "fc-list | grep -c Nimbus": "4",
    "cd /tmp && printf 'all:\\n\\t@echo made\\n' > Makefile && make": "made",
    "tcc -v; gdbserver --version | head -1; mkimage -V": "GNU gdbserver",
    "cd /tmp && mkdir -p from && echo 7 > from/l && rsync -a from/ to && cat to/l": "7",
    "echo low | socat - EXEC:cat": "low",
    'python3 -c \'import ssl, sqlite3, ctypes, lzma, curses, zlib; print(sqlite3.connect(":memory:").execute("select 6*7").fetchone(), '
    "ctypes.CDLL(None).abs(-5), ssl.OPENSSL_VERSION[:9])'": "(42,) 5 OpenSSL 3",
    "python3 -c 'import site; print(site.getsitepackages())'": "/usr/lib/python3/dist-packages",
    'cd /tmp && echo \'server.document-root = "/tmp"\nserver.port = 8080\nserver.bind = "127.0.0.1"\nserver.upload-dirs = ("/tmp")\' > w.conf && echo high > w.txt && '
    "/usr/sbin/lighttpd -f w.conf && curl -s http://127.0.0.1:8080/w.txt": "high",
    "curl -sS https://127.0.0.1:8080/ 2>&1 | head -1": "curl: (35)",
    "(/usr/sbin/mosquitto -v -p 1884 > /tmp/mq 2>&1 &); sleep 3; (mosquitto_sub -p 1884 -t tide -C 1 -W 20 &) ; sleep 2; "
    "mosquitto_pub -p 1884 -t tide -m 412; sleep 2; cat /tmp/mq": "412",
    "dbus-run-session -- dbus-send --print-reply --dest=org.freedesktop.DBus / org.freedesktop.DBus.GetId": "string",
    "LANG=C.UTF-8 tmux -V": "tmux 3.3a",  # it refuses a locale that is not there
    "strace -e trace=write -o /tmp/s /bin/dash -c 'echo tide'; grep -o 'write(1, \"tide' /tmp/s": 'write(1, "tide',
}

LEVEL = """#include <math.h>
#include <pthread.h>
#include <stdio.h>
#include <stdlib.h>
#include <sys/stat.h>
#include <linux/version.h>

static double level(const char *text) { return sqrt(atof(text)); }

static void *wait_for(void *where) { *(const char **)where = "waited"; return NULL; }

int main(int count, char **words)
{
    pthread_t one;
    const char *done = "";
    struct stat status;

    if (count != 2 || stat("/tmp/own/level.c", &status) != 0 || pthread_create(&one, NULL, wait_for, &done) != 0)
        return 1;
    pthread_join(one, NULL);
    printf("level %.1f of gull, %s\\n", level(words[1]), done);
    return LINUX_VERSION_CODE < KERNEL_VERSION(5, 0, 0);
}
"""

BOARD = """
summary = "Kittiwake with a network whose port {port} of this machine leads to the board's server for remote logins"
extends = "kittiwake-linux"

[kernel]
overlays = {{ add = ["kittiwake-port.dtso"] }}

[[disk]]
name = "card"

[[disk.partition]]
name = "root-a"
copies = []

[emulator]
arguments = [
  "-M", "virt", "-cpu", "cortex-a53", "-m", "256",
  "-display", "none", "-monitor", "none", "-serial", "stdio",
  "-bios", "{{bootloader}}", "-dtb", "{{device-tree}}",
  "-drive", "file={{image}},format=raw,if=none,id=card",
  "-device", "virtio-blk-device,drive=card",
  "-netdev", "user,id=port,restrict=on,hostfwd=tcp:127.0.0.1:{port}-10.0.2.15:22",
  "-device", "virtio-net-device,netdev=port,mac=52:54:00:00:11:06",
]
"""
IMAGE = """
summary = "Upstream programs, and remote logins by key"
locale = "C.UTF-8"
packages = {packages}

[root]
login = "locked"

[[user]]
name = "keeper"
shell = "/bin/dash"
login = "locked"
keys = ["{key}"]

[[network]]
name = "eth0"
addresses = ["10.0.2.15/24"]
gateways = ["10.0.2.2"]

[[start-folder]]
path = "/tmp"
mode = "1777"

[first-boot]

[[first-boot.action]]
name = "host-keys"
do = "host-keys"
"""


def yarrik(*words: str | Path) -> str:
    command = [sys.executable, "-m", "yarrik", *map(str, words)]
    done = subprocess.run(command, env=ENVIRONMENT, capture_output=True, check=False, stdin=subprocess.DEVNULL)
    said = (done.stdout + done.stderr).decode("utf-8", "replace")
    if done.returncode != 0:
        raise AssertionError(f"exit code {done.returncode}: yarrik {' '.join(map(str, words))}\n{said[-4000:]}")
    return said


def built(*words: str | Path) -> set[str]:
    """Builds, and returns the recipes whose commands ran."""
    events = [json.loads(line) for line in yarrik("build", *words).splitlines() if line.startswith("{")]
    steps = {one["step"] for one in events if one["event"] == "step-ended" and one["how"] == "ran"}
    return {step.removeprefix("build ") for step in steps if step.startswith("build ")}


def free_port() -> int:
    with socket.socket() as one:
        one.bind(("127.0.0.1", 0))
        return int(one.getsockname()[1])


def new_workspace() -> None:
    """The demo's workspace with the shelf, unless it is there."""
    if (ROOT / "yarrik.toml").exists():
        return
    ROOT.parent.mkdir(parents=True, exist_ok=True)
    yarrik("demo", ROOT, "--product", "tide-office", "--no-boot")
    yarrik("shelf", "add", "commons", "--workspace", ROOT)
    # Sources as they were seen to build and run: what archives offer today is another matter.
    with (ROOT / "yarrik.lock").open("a") as lock:
        lock.write("\n" + Path(__file__).with_name("commons.lock").read_text())


class LoggedIn(unittest.TestCase):
    """A product with remote logins by key: built, started in the emulator, and used over a port of this machine."""

    product = ""

    @classmethod
    def setUpClass(cls) -> None:
        new_workspace()
        cls.port = free_port()
        keys = tempfile.TemporaryDirectory(prefix="yarrik-test-")
        cls.addClassCleanup(keys.cleanup)
        cls.key = Path(keys.name, "key")
        subprocess.run(["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-C", "keeper@pier", "-f", cls.key], check=True)
        cls.define(ROOT / "shelves/harbour", BOARD.format(port=cls.port), cls.key.with_suffix(".pub").read_text().strip())
        started = time.monotonic()
        yarrik("build", cls.product, "--workspace", ROOT)
        print(f"built in {time.monotonic() - started:.0f} s", file=sys.stderr)

    @classmethod
    def define(cls, shelf: Path, board: str, key: str) -> None:
        """Writes the definitions of the product."""
        raise NotImplementedError

    def ssh(self, command: str, given: str = "") -> str:
        words = ["ssh", "-i", str(self.key), "-p", str(self.port), "-o", "BatchMode=yes", "-o", "StrictHostKeyChecking=no", "-o",
                 "UserKnownHostsFile=/dev/null", "-o", "ConnectTimeout=10", "-o", "LogLevel=ERROR", f"{self.name}@127.0.0.1", command]  # fmt: skip
        done = subprocess.run(words, capture_output=True, text=True, check=False, timeout=120, input=given)
        return done.stdout + done.stderr

    def start(self, name: str) -> None:
        """Starts the board, until this account can log in."""
        self.name = name
        console = ROOT / "out" / self.product / "boot.log"
        log = console.open("w")
        self.addCleanup(log.close)
        process = subprocess.Popen(
            [sys.executable, "-m", "yarrik", "boot", self.product, "--workspace", str(ROOT), "--seconds", "600",
             "--expect", "nobody says this"],
            env=ENVIRONMENT, stdin=subprocess.DEVNULL, stdout=log, stderr=subprocess.STDOUT,
        )  # fmt: skip
        self.addCleanup(process.wait)
        self.addCleanup(process.terminate)
        end = time.monotonic() + 400
        while "here" not in (said := self.ssh("echo here")):
            self.assertIsNone(process.poll(), console.read_text(errors="replace")[-3000:])
            self.assertLess(time.monotonic(), end, said + console.read_text(errors="replace")[-3000:])
            time.sleep(2)


ZLIB = "/usr/lib/libz.so.1.2.13"


class UpstreamProgramsRun(LoggedIn):
    product = "commons-login"

    @classmethod
    def define(cls, shelf: Path, board: str, key: str) -> None:
        (shelf / "boards/kittiwake-login.toml").write_text(board)
        (shelf / "images/commons-login.toml").write_text(IMAGE.format(packages=json.dumps(PACKAGES), key=key))
        (ROOT / "products/commons-login.toml").write_text(
            'board = "kittiwake-login"\nprofile = "lean"\nimage = "commons-login"\n'
        )

    def test_somebody_logs_in_by_key_and_uses_them(self) -> None:
        self.start("keeper")
        for command, wanted in {**USES, **(MORE_USES if ALL else {})}.items():
            with self.subTest(command):
                self.assertIn(wanted, self.ssh(command))
        if ALL:
            self.development()

    def development(self) -> None:
        """A program is sent over, made by the board's own compiler, and run there."""
        self.ssh("mkdir -p /tmp/own && cat > /tmp/own/level.c", LEVEL)
        self.ssh("cat > /tmp/own/Makefile", "CC = tcc\nCFLAGS = -Wall\nlevel: LDLIBS = -lm -lpthread\n")
        self.assertEqual(self.ssh("cd /tmp/own && make -s level && ./level 144"), "level 12.0 of gull, waited\n")
        self.assertIn(
            "file level is up to date", self.ssh("cd /tmp/own && make level").replace("'", "").replace("make: ", "file ")
        )
        # A mistake is told with its line.
        self.ssh("cat > /tmp/own/level.c", LEVEL.replace("double", "doubel"))
        self.assertIn("level.c:8: error:", self.ssh("cd /tmp/own && make level"))

    def test_an_option_of_zlib_rebuilds_its_users_and_says_so_first(self) -> None:
        """The others stay; so do those whose build leaves the same."""
        needs = {
            path.parent.name: {need.partition("[")[0] for need in tomllib.loads(path.read_text())["build"].get("needs", ())}
            for path in (BUILT_IN_SHELVES / "commons/recipes").glob("*/recipe.toml")
        }

        def uses(recipe: str) -> bool:
            return any(need == "zlib" or uses(need) for need in needs.get(recipe, ()))

        # The cache of a machine may have all this from an earlier run: a header of its own makes this one new.
        amended = ROOT / "shelves/harbour/amendments/zlib.toml"
        amended.parent.mkdir(exist_ok=True)
        amended.write_text(
            f'recipe = "zlib"\n[set.build]\ncommands-after.add = ["echo {time.time_ns()} > $DESTDIR/usr/include/run.h"]\n'
        )
        self.addCleanup(amended.unlink, missing_ok=True)
        words = (self.product, "--workspace", ROOT, "--set", "options.zlib.debug=true", "--json")
        steps = [one["step"] for one in json.loads(yarrik("plan", *words))["steps"]]
        told = {step.removeprefix("build ") for step in steps if step.startswith("build ")}
        packages = json.loads((ROOT / "out" / self.product / "packages.json").read_text())["packages"]
        every = {one["recipe"] for one in packages}
        self.assertIn("openssh", told)
        self.assertEqual([recipe for recipe in every if uses(recipe) and recipe not in told], [])
        self.assertEqual([recipe for recipe in told if not uses(recipe) and recipe != "zlib"], [])
        self.assertGreater(len(every - told), 5)
        before = self.libraries()
        ran = built(*words)
        self.assertEqual(ran - told, set())
        self.assertIn("openssh", ran)
        self.assertEqual({path for path, digest in self.libraries().items() if before[path] != digest}, {ZLIB})
        # Back again: both are kept.
        amended.unlink()
        self.assertEqual(built(self.product, "--workspace", ROOT, "--json"), set())
        self.assertEqual(self.libraries(), before)

    def libraries(self) -> dict[str, str]:
        """The digests of the image's shared libraries."""
        files = json.loads((ROOT / "out" / self.product / "files.json").read_text())["files"]
        return {one["path"]: one["sha256"] for one in files if one["kind"] == "file" and ".so." in one["path"]}

    def test_a_second_workspace_takes_all_from_the_cache(self) -> None:
        """It has the definitions, and nothing else: a colleague's first build."""
        with tempfile.TemporaryDirectory(prefix="yarrik-test-") as folder:
            place = Path(folder, "harbour")
            ignored = shutil.ignore_patterns("out", ".yarrik")
            shutil.copytree(ROOT, place, symlinks=True, ignore=ignored)
            started = time.monotonic()
            self.assertEqual(built(self.product, "--workspace", place, "--json"), set())
            took = time.monotonic() - started
            print(f"a second workspace: {took:.0f} s", file=sys.stderr)
            one, other = (Path(top, "out", self.product, f"{self.product}.img").read_bytes() for top in (ROOT, place))
            self.assertEqual(hashlib.sha256(one).digest(), hashlib.sha256(other).digest())

    def test_nothing_of_the_build_host_is_in_it(self) -> None:
        files = json.loads((ROOT / "out" / self.product / "files.json").read_text())
        self.assertGreater(len(files["files"]), 60)
        packages = json.loads((ROOT / "out" / self.product / "packages.json").read_text())["packages"]
        recipes = {one["recipe"] for one in packages}
        known = {path.parent.name for path in (BUILT_IN_SHELVES / "commons/recipes").glob("*/recipe.toml")}
        self.assertGreaterEqual(len(recipes & known), 10)
        locked = tomllib.loads((ROOT / "yarrik.lock").read_text())["debian"]
        self.assertGreaterEqual(len(locked), 12)


class AnotherCLibrary(unittest.TestCase):
    """The gauge with musl of the shelf in place of the toolchain's C library: its own programs, static and not."""

    def started(self, name: str, image: str, profile: str, *words: str) -> list[dict]:
        """Builds and starts an image under this profile; returns its packages as the manifest has them."""
        new_workspace()
        (ROOT / f"shelves/harbour/profiles/{name}.toml").write_text(f'extends = "lean"\nc-library = "musl"\n{profile}')
        (ROOT / f"products/{name}.toml").write_text(f'board = "kittiwake-linux"\nprofile = "{name}"\nimage = "{image}"\n')
        yarrik("build", name, "--workspace", ROOT)
        yarrik("boot", name, "--workspace", ROOT, "--seconds", "120", *words)
        found: list[dict] = json.loads((ROOT / "out" / name / "packages.json").read_text())["packages"]
        return found

    def test_programs_that_share_it(self) -> None:
        packages = self.started("gauge-musl", "tide-gauge", "", "--expect", "tidelog: recording")
        names = {one["name"] for one in packages}
        self.assertEqual([one["name"] for one in packages if one["linked"]], [])
        self.assertIn("musl", names)
        self.assertEqual({name for name in names if name.startswith("libc")}, set())

    def test_static_programs(self) -> None:
        static = 'link-flags = { add = ["-static"] }\n'
        packages = self.started("gauge-static", "gauge-recovery", static, "--expect", "kittiwake-linux# ")
        # Nothing of the C library is installed, and yet its licence counts.
        linked = {one["name"]: [(part["recipe"], part["licence"]) for part in one["linked"]] for one in packages}
        musl = [("musl", "MIT")]
        self.assertEqual(linked, {"harbour-init": musl, "harbour-shell": musl, "linux": []})
        self.assertIn("Permission is hereby granted", (ROOT / "out/gauge-static/licences/musl/COPYRIGHT").read_text())


MANAGED = """
summary = "Upstream's large service manager, with the gauge and remote logins"
locale = "C.UTF-8"
packages = [
  "dash", "dbus", "kmod", "mount", "openssh-server", "systemd", "systemd-clock-and-name", "systemd-logind", "systemd-networkd",
  "systemd-timesyncd", "tide", "tidelog",
]

[root]
login = "locked"
shell = "/bin/dash"
keys = ["{key}"]

[[user]]
name = "tide"
id = 100

[[service]]
name = "tidelog"
confined = true
writes = ["/var/lib/tide"]

[[service]]
name = "hourly"
summary = "Says what the level is, again and again"
program = "/bin/dash"
# On a slow machine it may come before the first reading.
arguments = ["-c", "test ! -e /var/lib/tide/level.log || tide count /var/lib/tide/level.log > /run/hourly"]
every = "20 s"

# No program asks for a login on the console.
[[link]]
path = "/etc/systemd/system/serial-getty@.service"
to = "/dev/null"

[[network]]
name = "eth0"
addresses = ["10.0.2.15/24"]
gateways = ["10.0.2.2"]

[first-boot]

[[first-boot.action]]
name = "host-keys"
do = "host-keys"
"""
MANAGER = """
extends = "lean"
init = "systemd"
init-path = "/usr/lib/systemd/systemd"
service-form = "units"
network-form = "units"
options = { dbus = { units = true } }
"""


class UnderTheServiceManager(LoggedIn):
    """The same board under the large service manager: unit files of upstream, and those that Yarrik writes."""

    product = "commons-managed"

    @classmethod
    def define(cls, shelf: Path, board: str, key: str) -> None:
        (shelf / "boards/kittiwake-managed.toml").write_text(board)
        (shelf / "images/commons-managed.toml").write_text(MANAGED.replace("{key}", key))
        (shelf / "profiles/managed.toml").write_text(MANAGER)
        (ROOT / "products/commons-managed.toml").write_text(
            'board = "kittiwake-managed"\nprofile = "managed"\nimage = "commons-managed"\n'
        )

    def test_no_unit_fails(self) -> None:
        self.start("root")
        end = time.monotonic() + 300
        while (state := self.ssh("systemctl is-system-running").strip()) in ("starting", "initializing"):
            self.assertLess(time.monotonic(), end, self.ssh("systemctl list-jobs"))
            time.sleep(3)
        self.assertEqual(state, "running", self.ssh("systemctl --failed --no-pager; journalctl -p warning --no-pager"))
        self.assertIn("0 loaded units listed", self.ssh("systemctl --failed --no-pager"))
        active = self.ssh(
            "systemctl is-active dbus sshd systemd-logind systemd-networkd systemd-timesyncd systemd-udevd tidelog"
        )
        self.assertEqual(active.split(), ["active"] * 7)
        # Units that are Yarrik's: restarted when killed, confined, and again and again.
        self.assertIn("tidelog: recording to /var/lib/tide/level.log", self.ssh("journalctl --no-pager -u tidelog"))
        before = self.ssh("systemctl show -p MainPID tidelog")
        self.ssh("systemctl kill -s KILL tidelog")
        self.wait_for("systemctl show -p NRestarts tidelog", "NRestarts=1")
        self.wait_for("systemctl is-active tidelog", "active")
        self.assertNotEqual(self.ssh("systemctl show -p MainPID tidelog"), before)
        shown = self.ssh("systemctl show -p ProtectSystem -p User -p NoNewPrivileges tidelog").split()
        self.assertEqual(sorted(shown), ["NoNewPrivileges=yes", "ProtectSystem=strict", "User=tide"])
        self.wait_for("read number < /run/hourly; echo at $number", "at ")
        # Units that are upstream's: the message bus by its socket, devices with what is on them, the network by its name.
        self.assertIn("TriggeredBy=dbus.socket", self.ssh("systemctl show -p TriggeredBy dbus"))
        self.assertIn("No sessions", self.ssh("loginctl --no-pager"))
        self.assertIn("ID_PART_TABLE_TYPE=gpt", self.ssh("udevadm info --query=property --name=vda"))
        self.assertRegex(self.ssh("networkctl --no-pager"), r"eth0 +ether +routable +configured")

    def wait_for(self, command: str, words: str) -> None:
        end = time.monotonic() + 120
        while words not in (said := self.ssh(command)):
            self.assertLess(time.monotonic(), end, f"{command}: {said}")
            time.sleep(2)


if __name__ == "__main__":
    unittest.main()
