"""Services: order, contradictions, the forms that inits read, judged by those who read them; and the small init itself."""

import os
import re
import shutil
import signal
import socket
import subprocess
import time
import unittest
from collections.abc import Callable
from pathlib import Path

from msgspec.structs import replace

from tests.support import FolderTest, WorkspaceTest, starter_programs
from yarrik.errors import Collector, Place, Unfit
from yarrik.model import Definition, Document, Image, ImageService, Service
from yarrik.model.rules import check_listen, check_service_name
from yarrik.plan import choices
from yarrik.resolve import Account, AccountGroup, Accounts
from yarrik.rootfs import OwnPath
from yarrik.services import SERVICE_FORMS, AskedService, OneService, ServiceForm, check_services, in_order, settle_services

ACCOUNTS = Accounts(
    users=(Account(name="root", uid=0, gid=0, home="/root", shell="/bin/sh"),
           Account(name="tide", uid=70, gid=70, home="/", shell="/bin/false")),
    groups=(AccountGroup(name="root", gid=0), AccountGroup(name="tide", gid=70)),
)  # fmt: skip


def settle(image: Image, *asked: AskedService) -> tuple[tuple[OneService, ...], list[str]]:
    collector = Collector()
    definition = Definition("i", "s", image, Document(Path("/s/i.toml"), {}))
    services, places = settle_services(definition, asked, lambda place: "s/i.toml", collector)
    check_services(services, ACCOUNTS, places, collector, complete=False)
    return services, [f"{one.code}: {one.what}" for one in collector.troubles]


def brought(package: str, service: Service) -> AskedService:
    return AskedService(package, service, Place(Path(f"/s/{package}.toml"), 3))


class ServicesAreSettled(unittest.TestCase):
    def test_the_image_changes_what_it_says_and_nothing_else(self) -> None:
        base = Service(name="tidelog", program="/usr/bin/tidelog", arguments=("--every", "1"), user="tide", restart="always",
                       environment={"A": "1", "B": "2"})  # fmt: skip
        own = ImageService(name="tidelog", arguments=("--every", "9"), environment={"B": "3"}, restart_delay="2 s")
        [one], told = settle(Image(packages=(), service=(own,)), brought("tidelog", base))
        self.assertEqual(told, [])
        self.assertEqual(
            (one.program, one.arguments, one.user, one.restart), ("/usr/bin/tidelog", ("--every", "9"), "tide", "always")
        )
        self.assertEqual((one.environment, one.restart_delay, one.packages), ((("A", "1"), ("B", "3")), 2000, ("tidelog",)))
        off = ImageService(name="tidelog", enabled=False)
        self.assertEqual(settle(Image(packages=(), service=(off,)), brought("tidelog", base)), ((), []))

    def test_what_cannot_work_is_told(self) -> None:
        def told(*services: ImageService) -> list[str]:
            return settle(Image(packages=(), service=services))[1]

        one = ImageService(name="a", program="/bin/a")
        for changed, words in (
            (replace(one, needs=("b",)), "SERVICE-NEED: the service `a` needs `b`, which is not in the image"),
            (replace(one, user="tied"), "SERVICE-USER: the service `a` runs as a user that is not there, `tied`"),
            (replace(one, group="tied"), "SERVICE-USER: the service `a` runs as a group that is not there, `tied`"),
            (replace(one, program=""), "SERVICE-UNKNOWN: no package brings a service `a`"),
            (replace(one, listen="tcp:0.0.0.0:7", every="1 s"), "SERVICE-FORM: the service `a` waits for connections"),
            (replace(one, once=True, restart="always"), "SERVICE-FORM: the service `a` runs once, and is started again"),
            (replace(one, once=True, ready_file="/run/a"), "SERVICE-FORM: the service `a` runs once, and says"),
            (replace(one, writes=("/a",)), "SERVICE-FORM: the service `a` names places"),
            (replace(one, restart_delay="1 s"), "SERVICE-FORM: the service `a` is never started again"),
            (replace(one, needs=("a",)), "SERVICE-LOOP: services wait for each other: `a` → `a`"),
        ):  # fmt: skip
            found = told(changed)
            self.assertEqual(len(found), 1, found)
            self.assertIn(words, found[0])
        loop = told(replace(one, after=("b",)), ImageService(name="b", program="/bin/b", needs=("c",)),
                    ImageService(name="c", program="/bin/c", after=("a",)))  # fmt: skip
        self.assertEqual(loop, ["SERVICE-LOOP: services wait for each other: `a` → `b` → `c` → `a`"])
        self.assertEqual(told(replace(one, after=("nothing",))), [])  # an order among those that are there

    def test_two_packages_with_one_name(self) -> None:
        service = Service(name="log", program="/bin/log")
        self.assertIn("SERVICE-TWICE: `a` and `b` both bring a service `log`",
                      settle(Image(packages=()), brought("a", service), brought("b", service))[1])  # fmt: skip

    def test_the_order_is_the_same_everywhere(self) -> None:
        rows = {"d": ("b", "c"), "a": (), "b": ("a",), "c": ("a",), "e": ()}
        services = [OneService(name=name, program="/x", after=after) for name, after in rows.items()]
        self.assertEqual([one.name for one in in_order(services)], ["a", "b", "c", "d", "e"])
        self.assertEqual([one.name for one in in_order(services[::-1])], ["a", "b", "c", "d", "e"])
        chain = [OneService(name=f"s{n:05d}", program="/x", needs=(f"s{n + 1:05d}",) if n < 4999 else ()) for n in range(5000)]
        self.assertEqual(in_order(chain)[0].name, "s04999")

    def test_names_and_places(self) -> None:
        for name in ("tidelog", "a.b", "getty@ttyS0"):
            check_service_name(name)
        for name in ("", "../x", "a b", "x.service", "-x"):
            self.assertRaises(Unfit, check_service_name, name)
        for text in ("tcp:0.0.0.0:7000", "unix:/run/tide"):
            check_listen(text)
        for text in ("7000", "tcp:7000", "tcp:0.0.0.0:0", "tcp:0.0.0.0:70000", "tcp:300.0.0.1:7", "unix:run", "unix:/a b"):
            self.assertRaises(Unfit, check_listen, text)


#: Everything that a form may be asked for, apart from what contradicts itself.
FULL = OneService(
    name="tidelog", program="/usr/bin/tidelog", summary="Records 100% of the tide", arguments=("--port", 'Gull "Rock" $HOME %n', "a;b"),
    user="tide", folder="/var/lib/tide", environment=(("PORT", "Gull Rock 5%"), ("PLAIN", "1")), after=("clock",), needs=("store",),
    restart="on-failure", restart_delay=500, stop_after=7000, open_files=64, processes=8, memory=32 << 20,
)  # fmt: skip
STORE = OneService(name="store", program="/usr/bin/store", once=True)
CLOCK = OneService(name="clock", program="/usr/bin/clock")


class UnitFilesAreThoseOfTheirManager(FolderTest):
    def verify(self, *services: OneService) -> str:
        root = self.folder / "root"
        shutil.rmtree(root, ignore_errors=True)
        for own in SERVICE_FORMS["units"].write(in_order(services)):
            place = root / own.path[1:]
            place.parent.mkdir(parents=True, exist_ok=True)
            if own.kind == "link":
                place.symlink_to(own.content)
            else:
                place.write_text(own.content)
        for path in ("usr/bin/tidelog", "usr/bin/store", "usr/bin/clock", "bin/sh", "bin/rm"):
            (root / path).parent.mkdir(parents=True, exist_ok=True)
            (root / path).write_text("#!/bin/sh\n")
            (root / path).chmod(0o755)
        (root / "etc").mkdir(exist_ok=True)
        (root / "etc/passwd").write_text("root:x:0:0::/:/bin/sh\ntide:x:70:70::/:/bin/false\n")
        (root / "etc/group").write_text("root:x:0:\ntide:x:70:\n")
        system = root / "usr/lib/systemd/system"
        # Targets that every such system has.
        for target in ("multi-user", "sockets", "timers", "sysinit", "basic", "shutdown"):
            (system / f"{target}.target").write_text("[Unit]\nDescription=x\nDefaultDependencies=no\n")
        units = [path.name for path in sorted(system.iterdir()) if not path.name.endswith(".target")]
        return self.tool("systemd-analyze", "verify", f"--root={root}", "--man=no", *units, ok=(0, 1))

    def test_their_own_program_finds_nothing_wrong(self) -> None:
        confined = replace(FULL, name="confined", confined=True, writes=("/var/lib/tide", "/var/log/a b"))
        listening = OneService(name="door", program="/usr/bin/clock", listen="tcp:127.0.0.1:7000")
        local = OneService(name="gate", program="/usr/bin/clock", listen="unix:/run/gate", user="tide")
        timed = OneService(name="report", program="/usr/bin/clock", every=600_000)
        ready = OneService(name="slow", program="/usr/bin/clock", ready_file="/run/slow ready", log="console")
        said = self.verify(FULL, STORE, CLOCK, confined, listening, local, timed, ready)
        self.assertEqual(said.strip(), "")

    def test_it_would_say_so(self) -> None:
        self.assertIn("not executable", self.verify(replace(CLOCK, program="/usr/bin/missing")))
        self.assertNotEqual(self.verify(replace(CLOCK, after=("clock",), needs=("nothing",))).strip(), "")

    def test_words_arrive_as_they_are_written(self) -> None:
        texts = {own.path: own.content for own in SERVICE_FORMS["units"].write([FULL])}
        unit = texts["/usr/lib/systemd/system/tidelog.service"]
        self.assertIn('ExecStart=/usr/bin/tidelog --port "Gull \\"Rock\\" $$HOME %%n" "a;b"', unit)
        self.assertIn('Environment="PORT=Gull Rock 5%%"', unit)
        self.assertIn("After=store.service clock.service\nRequires=store.service", unit)
        self.assertEqual(
            texts["/etc/systemd/system/multi-user.target.wants/tidelog.service"], "/usr/lib/systemd/system/tidelog.service"
        )


class ScriptsAreRun(FolderTest):
    def test_a_program_is_started_and_stopped_by_its_script(self) -> None:
        name = f"yarrik-test-{os.getpid()}"
        log = self.folder / "said"
        program = self.write(
            "program", f'#!/bin/sh\necho "$1|$PORT|$(pwd)|$(ulimit -n)" > {log}.new && mv {log}.new {log}\nexec sleep 60\n'
        )
        program.chmod(0o755)
        one = replace(FULL, name=name, program=str(program), arguments=('a "b" $c',), user="", folder=str(self.folder), restart="never",
                      restart_delay=0, processes=0, memory=0, needs=(), after=())  # fmt: skip
        self.assertEqual(SERVICE_FORMS["scripts"].lacks(one), [])
        own = {path.path: path for path in SERVICE_FORMS["scripts"].write([CLOCK, one])}
        script = self.write("script", own[f"/etc/init.d/{name}"].content)
        script.chmod(0o755)
        self.assertEqual(own[f"/etc/rc3.d/S02{name}"].content, f"../init.d/{name}")
        self.assertEqual(own[f"/etc/rc0.d/K01{name}"].content, f"../init.d/{name}")
        try:
            self.tool("sh", script, "status", ok=(1, 3))
            self.tool("sh", script, "start")
            for _ in range(600):
                if log.exists():
                    break
                time.sleep(0.1)
            self.assertEqual(log.read_text().strip(), f'a "b" $c|Gull Rock 5%|{self.folder}|64')
            self.tool("sh", script, "status")
        finally:
            self.tool("sh", script, "stop")
        self.tool("sh", script, "status", ok=(1, 3))
        self.tool("sh", script, "what", ok=(2,))

    def test_all_of_them_are_shell(self) -> None:
        ready = OneService(name="slow", program="/x y", ready_file="/run/it's", arguments=("'",))
        for own in SERVICE_FORMS["scripts"].write([STORE, ready]):
            if own.kind == "file":
                self.tool("dash", "-n", self.write("s", own.content))

    def test_what_a_form_cannot_say_is_told(self) -> None:
        scripts, plain, units = (SERVICE_FORMS[name] for name in ("scripts", "plain", "units"))
        for changed, form in (
            (FULL, scripts), (replace(CLOCK, listen="unix:/x"), scripts), (replace(CLOCK, every=5), scripts),
            (replace(CLOCK, log="ring"), scripts), (replace(CLOCK, confined=True), scripts),
            (replace(CLOCK, confined=True, writes=("/x",)), plain), (replace(CLOCK, arguments=("x",) * 40), plain),
            (replace(CLOCK, arguments=(" x",)), plain), (replace(CLOCK, arguments=("x" * 2000,)), plain),
            (replace(CLOCK, restart="always", restart_most=60000), units), (replace(CLOCK, log="ring"), units),
        ):  # fmt: skip
            self.assertEqual(len(form.lacks(changed)), 1, (changed, form.name))
        self.assertEqual(plain.lacks(FULL), [])
        self.assertEqual(units.lacks(FULL), [])


#: Says what it was given, and ends, sleeps, or answers on its socket.
FACTS = r"""
#define _GNU_SOURCE
#include <grp.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/prctl.h>
#include <sys/resource.h>
#include <sys/socket.h>
#include <unistd.h>
int main(int count, char **words)
{
    char folder[200];
    gid_t groups[8];
    struct rlimit files;
    int number = getgroups(8, groups);
    getrlimit(RLIMIT_NOFILE, &files);
    printf("facts %s uid %d gid %d groups", count > 1 ? words[1] : "", (int)getuid(), (int)getgid());
    for (int i = 0; i < number; i++)
        printf(" %d", (int)groups[i]);
    printf(" in %s files %ld own %s port %s locked %d\n", getcwd(folder, sizeof folder), (long)files.rlim_cur,
           getenv("OWN") ? getenv("OWN") : "-", getenv("PORT") ? getenv("PORT") : "-", prctl(PR_GET_NO_NEW_PRIVS, 0, 0, 0, 0));
    fflush(stdout);
    if (count > 1 && strcmp(words[1], "answer") == 0) {
        int one = accept(3, NULL, NULL);
        dprintf(one, "fds %s pid %d\n", getenv("LISTEN_FDS"), atoi(getenv("LISTEN_PID")) == getpid());
        close(one);
    }
    return 0;
}
"""


class TheSmallInit(FolderTest):
    """Runs as the first process of a namespace of its own, in a root filesystem of a few files."""

    @classmethod
    def setUpClass(cls) -> None:
        cls.programs = Path(f"/tmp/yarrik-test-init-{os.getpid()}")
        cls.programs.mkdir(exist_ok=True)
        cls.addClassCleanup(shutil.rmtree, cls.programs)
        flags = ["-static", "-O1", "-Wall", "-Wextra", "-Werror", "-fsanitize=undefined", "-fsanitize-undefined-trap-on-error"]
        starter_programs(cls.programs, flags, "init", "shell")
        (cls.programs / "facts.c").write_text(FACTS)
        subprocess.run(["gcc", *flags, "-o", cls.programs / "facts", cls.programs / "facts.c"], check=True)

    def setUp(self) -> None:
        super().setUp()
        self.root = self.folder / "root"
        for name in ("sbin", "bin", "etc/services", "proc", "sys", "dev", "run", "root", "tmp", "var/lib/tide", "data"):
            (self.root / name).mkdir(parents=True)
        shutil.copy(self.programs / "init", self.root / "sbin/init")
        shutil.copy(self.programs / "sh", self.root / "bin/sh")
        shutil.copy(self.programs / "facts", self.root / "bin/facts")
        self.write("root/etc/passwd", "root:x:0:0::/root:/bin/sh\ntide:x:70:71::/var/lib/tide:/bin/false\n")
        self.write("root/etc/group", "root:x:0:\ntide:x:71:\nline:x:90:other,tide\nother:x:91:other\n")
        self.write("root/etc/hostname", "gull\n")

    def service(self, **keys: object) -> None:
        self.form([OneService(**{"program": "/bin/sh", **keys})])  # type: ignore[arg-type]

    def form(self, services: list[OneService]) -> None:
        for own in SERVICE_FORMS["plain"].write(services):
            self.write(f"root{own.path}", own.content)

    def start(self) -> None:
        script = f"mount --bind {self.root} {self.root} && exec chroot {self.root} /sbin/init"
        words = [
            "unshare",
            "--fork",
            "--pid",
            "--mount",
            "--uts",
            "--kill-child",
            *([] if os.getuid() == 0 else ["--map-root-user"]),
        ]
        self.process = subprocess.Popen([*words, "sh", "-c", script], stdin=subprocess.DEVNULL, stdout=subprocess.PIPE,
                                        stderr=subprocess.STDOUT)  # fmt: skip
        self.addCleanup(self.end)
        assert self.process.stdout is not None
        os.set_blocking(self.process.stdout.fileno(), False)
        self.said = ""

    def end(self) -> None:
        self.process.kill()
        self.process.wait()
        assert self.process.stdout is not None
        self.process.stdout.close()

    def until(self, done: Callable[[str], bool] | str, seconds: float = 20) -> str:
        """Reads the console until a text is there."""
        end = time.monotonic() + seconds
        assert self.process.stdout is not None
        while time.monotonic() < end:
            self.said += (self.process.stdout.read() or b"").decode()
            if done in self.said if isinstance(done, str) else done(self.said):
                return self.said
            time.sleep(0.05)
        self.fail(f"not seen: {done}\n{self.said}")

    @property
    def pid(self) -> int:
        children = Path(f"/proc/{self.process.pid}/task/{self.process.pid}/children").read_text().split()
        return int(children[0])

    def inside(self, path: str) -> str:
        """A file as init sees it."""
        return Path(f"/proc/{self.pid}/root{path}").read_text()

    def states(self) -> dict[str, tuple[str, int, int]]:
        rows = (line.split() for line in self.inside("/run/services").splitlines())
        return {name: (state, int(pid), int(starts)) for name, state, pid, starts in rows}

    def outer(self, pid: int) -> int:
        """A process's number outside of the namespace."""
        for status in Path("/proc").glob("[0-9]*/status"):
            try:
                found = re.search(r"^NSpid:\s+(\d+)\s+(\d+)$", status.read_text(), re.MULTILINE)
            except OSError:
                continue
            if found and int(found[2]) == pid and self.namespace(int(found[1])) == self.namespace(self.pid):
                return int(found[1])
        raise AssertionError(f"no process {pid}")

    @staticmethod
    def namespace(pid: int) -> str:
        try:
            return os.readlink(f"/proc/{pid}/ns/pid")
        except OSError:
            return ""

    def test_the_order_of_start_and_of_the_end(self) -> None:
        sh = ("-c",)
        self.form(in_order([
            OneService(name="a-last", program="/bin/sh", arguments=(*sh, "echo run last; sleep 60"), after=("z-first", "m-mid", "none")),
            OneService(name="m-mid", program="/bin/sh", arguments=(*sh, "sleep 1; echo run mid; echo x > /run/ready; sleep 60"),
                       needs=("z-first",), ready_file="/run/ready"),
            OneService(name="z-first", program="/bin/sh", arguments=(*sh, "sleep 1; echo run first"), once=True),
            OneService(name="broken", program="/bin/sh", arguments=(*sh, "exit 3"), once=True),
            OneService(name="poor", program="/bin/sh", arguments=(*sh, "echo run poor"), needs=("broken",)),
        ]))  # fmt: skip
        self.start()
        said = self.until("run last")
        self.assertEqual(re.findall(r"run (\w+)", said), ["first", "mid", "last"])
        self.assertIn("init: poor is not started: it needs broken, which has ended", said)
        states = self.states()
        self.assertEqual({name: row[0] for name, row in states.items()},
                         {"a-last": "ready", "m-mid": "ready", "z-first": "done", "broken": "failed", "poor": "failed"})  # fmt: skip
        os.kill(self.pid, signal.SIGUSR1)
        said = self.until("init: powering off")
        self.assertEqual(re.findall(r"init: stopping (\S+)", said), ["a-last", "m-mid"])
        self.process.wait(20)  # the namespace ends with its init; it is an error if it does not
        self.assertNotIn("init: reboot", self.until("init: powering off"))

    def test_one_that_is_killed_is_started_again_ever_later(self) -> None:
        self.form([OneService(name="log", program="/bin/sh", arguments=("-c", "echo run log; sleep 600"), restart="always",
                              restart_delay=100, restart_most=300)])  # fmt: skip
        self.start()
        for number in range(1, 5):
            self.until(lambda said, number=number: said.count("run log") == number)
            os.kill(self.outer(self.states()["log"][1]), signal.SIGKILL)
        said = self.until(lambda said: said.count("run log") == 5)
        delays = re.findall(r"log ended with signal 9, and is started again in (\d+) ms", said)
        self.assertEqual(delays, ["100", "200", "300", "300"])
        self.assertEqual(self.states()["log"][2], 5)

    def test_only_a_failure_counts_where_that_is_said(self) -> None:
        self.form([
            OneService(name="bad", program="/bin/sh", arguments=("-c", "echo run bad; exit 4"), restart="on-failure", restart_delay=50),
            OneService(name="good", program="/bin/sh", arguments=("-c", "echo run good"), restart="on-failure", restart_delay=50),
            OneService(name="never", program="/bin/sh", arguments=("-c", "echo run never; exit 1")),
        ])  # fmt: skip
        self.start()
        said = self.until(lambda said: said.count("run bad") >= 3)
        self.assertEqual((said.count("run good"), said.count("run never")), (1, 1))
        states = self.states()
        self.assertEqual((states["good"][0], states["never"][0]), ("stopped", "failed"))

    def test_what_a_service_is_given(self) -> None:
        self.write("root/etc/environment", 'PORT="Gull \\"Rock\\""\n# a comment\n')
        self.form([
            OneService(name="facts", program="/bin/facts", arguments=("one",), user="tide", folder="/var/lib/tide",
                       environment=(("OWN", "a b=c"),), open_files=64, confined=True),
            OneService(name="plain", program="/bin/facts", arguments=("two",), group="line"),
            OneService(name="stranger", program="/bin/facts", user="nobody-here"),
        ])  # fmt: skip
        self.start()
        said = self.until(lambda said: "facts one" in said and "facts two" in said and "cannot become" in said)
        self.assertIn('facts one uid 70 gid 71 groups 90 in /var/lib/tide files 64 own a b=c port Gull "Rock" locked 1', said)
        self.assertRegex(said, r"facts two uid 0 gid 90 groups in / files \d+ own - port Gull")
        self.assertIn("init: stranger: cannot become nobody-here", said)

    def test_somebody_connects_and_a_clock_runs(self) -> None:
        with socket.socket() as free:
            free.bind(("127.0.0.1", 0))
            port = free.getsockname()[1]
        self.form([
            OneService(name="door", program="/bin/facts", arguments=("answer",), listen=f"tcp:127.0.0.1:{port}", user="tide"),
            OneService(name="report", program="/bin/sh", arguments=("-c", "echo run report"), every=300),
        ])  # fmt: skip
        self.start()
        said = self.until("init: 0 services started")
        self.assertNotIn("facts", said)
        for _ in range(2):
            with socket.create_connection(("127.0.0.1", port), 10) as one:
                self.assertEqual(one.makefile().read(), "fds 1 pid 1\n")
        self.assertEqual(self.until(lambda said: said.count("facts answer uid 70") == 2).count("facts answer"), 2)
        self.until(lambda said: said.count("run report") >= 3)

    def test_a_ring_never_grows(self) -> None:
        self.form(
            [
                OneService(
                    name="talker", program="/bin/sh", arguments=("-c", "cat /big /big /big /big /big; echo the end"), log="ring"
                )
            ]
        )
        self.write("root/big", "".join(f"line {number:06d}\n" for number in range(1500)))
        self.start()
        self.until("service started")
        for _ in range(600):
            if "the end" in self.inside("/run/log/talker"):
                break
            time.sleep(0.1)
        self.assertTrue(self.inside("/run/log/talker").endswith("the end\n"))
        for name in ("talker", "talker.old"):
            self.assertLessEqual(len(self.inside(f"/run/log/{name}")), 32 * 1024)

    def test_settings_mounts_and_folders(self) -> None:
        self.write("root/etc/sysctl.d/50-image.conf", "# ours\nkernel.hostname = rock\nkernel/domainname = pier\n")
        self.write("root/etc/folders", "/run/tide/deep 2750 70 71\n")
        (self.root / "var/lib/tide").chmod(0o750)
        os.chown(self.root / "var/lib/tide", 70, 71)
        self.write("root/etc/fstab", """
            tmpfs /data tmpfs nosuid,nodev,size=1m,mode=755 0 0
            /data/places/tide /var/lib/tide none bind 0 0
            nothing /data/gone ext4 nofail 0 0
            nothing /data/lost ext4 ro 0 0
        """.replace("            ", ""))  # fmt: skip
        self.form([OneService(name="x", program="/bin/sh",
                              arguments=("-c", "cat /proc/sys/kernel/hostname /proc/sys/kernel/domainname"))])  # fmt: skip
        self.start()
        said = self.until("pier\n")
        self.assertIn("init: cannot mount nothing on /data/lost", said)
        self.assertNotIn("/data/gone", said)
        self.assertIn("rock\npier\n", said)
        place = Path(f"/proc/{self.pid}/root/run/tide/deep")
        self.assertEqual((place.stat().st_mode & 0o7777, place.stat().st_uid, place.stat().st_gid), (0o2750, 70, 71))
        mounts = Path(f"/proc/{self.pid}/mountinfo").read_text()
        self.assertRegex(mounts, r" /data rw,nosuid,nodev.* tmpfs .*size=1024k")
        self.assertIn(" /places/tide /var/lib/tide ", mounts)
        below = Path(f"/proc/{self.pid}/root/data/places/tide").stat()
        self.assertEqual((below.st_mode & 0o7777, below.st_uid, below.st_gid), (0o750, 70, 71))


class AnImageHasServices(WorkspaceTest):
    def setUp(self) -> None:
        super().setUp()
        self.log_recipe()
        self.image("")

    def log_recipe(self, more: str = "") -> None:
        command = "mkdir -p $DESTDIR/usr/bin && $CC $CFLAGS -o $DESTDIR/usr/bin/log log.c"
        self.recipe("log", command + more, {"log.c": "int main(void) { return 0; }\n"}, package="""
[[package.log.user]]
name = "log"
[[package.log.service]]
name = "log"
program = "/usr/bin/log"
user = "log"
""")  # fmt: skip

    def image(self, more: str, packages: str = '"init", "log"') -> None:
        (self.root / "s/images/i.toml").write_text(f"packages = [{packages}]\n{more}")

    def test_files_of_the_form_that_the_profile_says(self) -> None:
        self.yarrik("build", at=self.root)
        self.assertEqual(self.content("/etc/services/log.service"), "run = /usr/bin/log\nuser = log\n")
        (self.root / "s/profiles/p.toml").write_text('init = "init"\nservice-form = "units"\n')
        self.yarrik("build", at=self.root)
        self.assertIn("ExecStart=/usr/bin/log\nUser=log\n", self.content("/usr/lib/systemd/system/log.service"))
        self.image('[[service]]\nname = "log"\nenabled = false\n')
        self.yarrik("build", at=self.root)
        self.assertNotIn("log.service", self.yarrik("inspect", "out/p/p.img", "/usr", at=self.root))
        (self.root / "s/profiles/p.toml").write_text('init = "init"\nservice-form = "scripts"\n')
        self.image("")
        said = self.yarrik("build", at=self.root, code=1)
        self.assertIn("SERVICE-PROGRAM: services in the form `scripts` call /bin/sh, which is not in the image", said)
        (self.root / "s/profiles/p.toml").write_text('init = "init"\nservice-form = "unit"\n')
        said = self.yarrik("check", at=self.root, code=2)
        self.assertIn("SERVICE-FORM-UNKNOWN: there is no service form `unit`", said)
        self.assertIn("did you mean `units`?", said)

    def test_a_variable_that_nothing_sets(self) -> None:
        recipe = self.root / "s/recipes/log/recipe.toml"
        text = recipe.read_text()
        recipe.write_text(text.replace('user = "log"\n', 'user = "log"\nneeds-environment = ["TIDE_PORT"]\n'))
        wrong = "SERVICE-ENVIRONMENT: the service `log` needs the variable TIDE_PORT, and nothing sets it"
        service = '[[service]]\nname = "log"\n'
        for more in (
            "",
            'environment = { TIDE_PROT = "Gull Rock" }\n',
            'environment = { tide_port = "Gull Rock" }\n',
            'environment = { TIDE_PORT = "" }\n',
            f'environment = {{ TIDE_PORT = "Gull Rock" }}\n{service}environment = {{ TIDE_PORT = "" }}\n',
            f'{service}environment = {{ PORT = "TIDE_PORT" }}\n',
            '[[file]]\npath = "/etc/profile.d/port.sh"\ncontent = "export TIDE_PORT=Gull\\n"\n',
            '[[service]]\nname = "other"\nprogram = "/usr/bin/log"\nenvironment = { TIDE_PORT = "Gull Rock" }\n',
        ):
            with self.subTest(more):
                self.image(more)
                self.assertIn(wrong, self.yarrik("check", at=self.root, code=2))
        for more in (
            'environment = { TIDE_PORT = "Gull Rock" }\n',
            f'{service}environment = {{ TIDE_PORT = "Gull Rock" }}\n',
            f'{service}environment-file = "/var/lib/first-boot/settings"\n',  # what a board says is not known here
            f"{service}enabled = false\n",
        ):
            with self.subTest(more):
                self.image(more)
                self.yarrik("build", at=self.root)
        # What all programs get is where each kind of init gives it to services.
        self.image("environment = { TIDE_PORT = '50% \"a\\b\"' }\n")
        (self.root / "s/profiles/p.toml").write_text('init = "init"\nservice-form = "units"\n')
        self.yarrik("build", at=self.root)
        said = self.content("/etc/systemd/system.conf.d/image.conf")
        self.assertEqual(said, '[Manager]\nDefaultEnvironment="TIDE_PORT=50%% \\"a\\\\b\\""\n')

    def test_a_unit_file_that_the_package_brings_stays(self) -> None:
        (self.root / "s/profiles/p.toml").write_text('init = "init"\nservice-form = "units"\n')
        file = "/usr/lib/systemd/system/log.service"
        self.log_recipe(f" && mkdir -p $DESTDIR/usr/lib/systemd/system && echo [Service] > $DESTDIR{file}")
        self.yarrik("build", at=self.root)
        self.assertEqual(self.content(file), "[Service]\n")
        # It is turned on all the same.
        listed = self.yarrik("inspect", "out/p/p.img", "/etc/systemd/system/multi-user.target.wants", at=self.root)
        self.assertIn("log.service", listed)
        # What the image says of it would be lost, also under the same words; one of another name is none of its business.
        for more in ('arguments = ["-v"]', "confined = true", 'program = "/usr/bin/log"'):
            self.image(f'[[service]]\nname = "log"\n{more}\n')
            said = self.yarrik("build", at=self.root, code=1)
            self.assertIn(f"FILE-REPLACED: {file} is the image's own, and the package `log` brings it too", said)
            self.assertIn("/etc/systemd/system/log.service.d/own.conf", said)
        self.image('[[service]]\nname = "more"\nprogram = "/usr/bin/log"\n')
        self.yarrik("build", at=self.root)
        self.assertEqual(self.content(file), "[Service]\n")
        self.image('[[service]]\nname = "log"\nenabled = false\n')
        self.yarrik("build", at=self.root)
        self.assertEqual(self.content(file), "[Service]\n")
        # One that another package has there is not its own.
        self.log_recipe()
        self.recipe("other", f"mkdir -p $DESTDIR/usr/lib/systemd/system && echo [Service] > $DESTDIR{file}")
        self.image("", '"init", "log", "other"')
        said = self.yarrik("build", at=self.root, code=1)
        self.assertIn(f"FILE-REPLACED: {file} is the image's own, and the package `other` brings it too", said)

    def test_they_are_shown_in_their_order(self) -> None:
        self.image('[[service]]\nname = "a"\nprogram = "/usr/bin/log"\narguments = ["-x"]\nafter = ["log"]\nevery = "90 s"\n')
        shown = self.yarrik("show", "--services", at=self.root)
        self.assertRegex(shown, r"log +log +at start +not again\n +a +root +every 90 s +not again +after log\n")
        self.assertRegex(shown, r"programs\n +log +/usr/bin/log\n +a +/usr/bin/log -x\nsaid in\n")
        self.assertRegex(shown, r"said in\n +log +s/recipes/log/recipe.toml:\d+\n +a +s/images/i.toml:2\n")
        report = self.yarrik_json("show", "--services", at=self.root)
        self.assertEqual([one["name"] for one in report["services"]], ["log", "a"])
        self.image("", '"init"')
        self.assertIn("p has no services", self.yarrik("show", "--services", at=self.root))

    def test_roles_say_who_fills_them_and_who_could(self) -> None:
        self.recipe("net", "echo x > $DESTDIR/x", package='[package.net]\nprovides = ["network"]\n')
        self.recipe("other", "echo y > $DESTDIR/y", package='[package.other]\nprovides = ["network", "init"]\n')
        self.image("", '"init", "net"')
        shown = self.yarrik("show", "--roles", at=self.root)
        self.assertRegex(shown, r"network +net +could be other")
        self.assertRegex(shown, r"init +init +could be other +only one")
        self.assertRegex(shown, r"logger +nobody +no shelf has one")
        roles = {one["role"]: one for one in self.yarrik_json("show", "--roles", at=self.root)["roles"]}
        self.assertEqual((roles["network"]["in-image"], roles["network"]["others"]), (["net"], ["other"]))

    def test_what_the_form_cannot_say_stops_before_anything_is_built(self) -> None:
        (self.root / "s/profiles/p.toml").write_text('init = "init"\nservice-form = "scripts"\n')
        self.image('[[service]]\nname = "log"\nevery = "10 min"\n')
        said = self.yarrik("check", at=self.root, code=2)
        self.assertIn(
            "SERVICE-FORM: the service `log` does not fit the form `scripts`, which never runs a program again and again", said
        )
        self.assertIn("s/images/i.toml:2", said)
        self.assertIn('the profile says `service-form = "scripts"` (s/profiles/p.toml:2)', said)

    def test_programs_and_needs_that_are_not_there(self) -> None:
        self.image('[[service]]\nname = "log"\nprogram = "/usr/bin/lgo"\n')
        said = self.yarrik("build", at=self.root, code=1)
        self.assertIn(
            "SERVICE-PROGRAM: the service `log` starts /usr/bin/lgo, which is not in the image (s/images/i.toml)", said
        )
        self.image('[[service]]\nname = "log"\nneeds = ["store"]\n')
        self.assertIn("SERVICE-NEED: the service `log` needs `store`", self.yarrik("check", at=self.root, code=2))
        self.image('[[service]]\nname = "lgo"\nenabled = false\n')
        self.assertIn("did you mean `log`?", self.yarrik("check", at=self.root, code=2))
        # A package's file in the place of a generated one is a clash that somebody has to decide.
        self.recipe("own", "install -D -m 644 o $DESTDIR/etc/services/log.service", {"o": "run = /usr/bin/log\n"})
        self.image("", '"init", "log", "own"')
        self.assertIn("FILE-REPLACED", self.yarrik("build", at=self.root, code=1))


class AMadeUpForm(unittest.TestCase):
    def test_one_is_added_through_the_table_alone(self) -> None:
        form = ServiceForm("list", lambda services: [OwnPath(path="/etc/list", kind="file", mode=0o644,
                                                             content="".join(f"{one.name}\n" for one in services))],
                           lambda one: ["waits"] if one.after else [])  # fmt: skip
        SERVICE_FORMS["list"] = form
        self.addCleanup(SERVICE_FORMS.pop, "list")
        self.assertEqual(SERVICE_FORMS["list"].write([CLOCK, STORE])[0].content, "clock\nstore\n")
        self.assertIn("list", choices()["service form"])


if __name__ == "__main__":
    unittest.main()
