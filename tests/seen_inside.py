"""The pier's gauge looked at from inside, in the emulator, with the real kernel; and power cut while it starts for the first time.

`make inside` runs it; it is not part of `make test`, since that kernel takes minutes to build."""

import json
import os
import random
import re
import shutil
import signal
import subprocess
import sys
import time
import unittest
from pathlib import Path

from tests.emulated_boards import ENVIRONMENT, ROOT, BoardTest, setUpModule, yarrik

__all__ = ["setUpModule"]
#: Made up, like all in the demo; a test looks for them everywhere.
SECRETS = {"YARRIK_SECRET_MASTER": "a quiet pier 1616", "YARRIK_SECRET_PIER_RADIO": "gulls at noon 1616"}
ENVIRONMENT.update(SECRETS)
CARD = 96 << 20
#: How many times power is cut.
CUTS = int(os.environ.get("YARRIK_CUTS", "20"))

#: What is typed on the board, by the name under which its answer is found.
LOOKS = {
    "services": "cat /run/services",
    "mounts": "cat /proc/mounts",
    "name": "cat /proc/sys/kernel/hostname; cat /etc/hostname",
    "hosts": "cat /etc/hosts",
    "id": "cat /etc/machine-id",
    "log": "cat /var/lib/first-boot/log",
    "settings": "cat /var/lib/first-boot/settings",
    "state": "ls /var/lib/first-boot",
    "marks": "ls /var/lib/first-boot/done",
    "partitions": "cat /proc/partitions",
    "addresses": "cat /proc/net/fib_trie",
    "routes": "cat /proc/net/route",
    "users": "cat /etc/passwd",
    "shadow": "cat /etc/shadow",
    "homes": "ls /home",
    "keys": "ls /home/keeper/.ssh",
    "modes": "ls /etc",
    "radio": "ls /etc/wpa_supplicant",
    "resolver": "cat /etc/resolv.conf",
    "report": "cat /run/pier/report",
    "words": "cat /run/log/beacon",
    "owners": "ls /run/pier; ls /var/lib/tide",
}


class Inside(BoardTest):
    product = "pier-gauge"
    variants: tuple[str, ...] = ()

    @property
    def name(self) -> str:
        return "+".join((self.product, *self.variants))

    @property
    def image(self) -> Path:
        return ROOT / "out" / self.name / f"{self.name}.img"

    @property
    def words(self) -> list[str]:
        return [self.product, *(word for one in self.variants for word in ("--with", one)), "--workspace", str(ROOT)]

    def build(self) -> str:
        yarrik("build", *self.words)
        return (ROOT / "out" / self.name / "boot-story.txt").read_text()

    def card(self) -> Path:
        """A fresh card, larger than the image."""
        place = ROOT / ".yarrik/boot" / f"{self.name}.disk"
        place.parent.mkdir(parents=True, exist_ok=True)
        shutil.copy(self.image, place)
        with place.open("r+b") as file:
            file.truncate(CARD)
        return place

    def look(self, *more: tuple[str, str]) -> dict[str, str]:
        """Starts the card as it is, types all of LOOKS and `more`, and returns what was answered to each."""
        # The prompt that waits may be an old one: a bare line brings another.
        text = "[[talk]]\nexpect = 'services started'\ntype = ''\n"
        for name, typed in (*LOOKS.items(), *more):
            typed = f'echo B"EGIN" {name}; {typed}; echo E"ND" {name}'
            text += f"[[talk]]\nexpect = '# '\ntype = '{typed}'\n[[talk]]\nexpect = 'END {name}'\n"
        text += "[[talk]]\nexpect = '# '\ntype = 'poweroff'\n[[talk]]\nexpect = 'init: powering off'\n"
        file = ROOT / ".yarrik" / f"{self.name}-look.toml"
        file.write_text(text)
        yarrik("boot", *self.words, "--seconds", "120", "--keep-disk", "--until-off", "--talk", file)
        said = (ROOT / "out" / self.name / "boot.log").read_text(errors="replace")
        said = re.sub(r"\x1b\[[0-9;?]*[A-Za-z]|\r", "", said)
        found = {}
        for name in [*LOOKS, *(name for name, _ in more)]:
            match = re.search(rf"BEGIN {name}\n(.*?)END {name}\n", said, re.DOTALL)
            self.assertIsNotNone(match, f"{name}: {said[-3000:]}")
            assert match is not None
            found[name] = match[1]
        return found

    def check_common(self, seen: dict[str, str], root_kib: int) -> None:
        """What holds after every whole start."""
        self.assertEqual(seen["name"], "gull-rock-kw-0042\n" * 2)
        self.assertIn("127.0.1.1 gull-rock-kw-0042\n", seen["hosts"])
        self.assertRegex(seen["id"], r"\A[0-9a-f]{32}\n\Z")
        self.assertEqual(seen["settings"], 'STATION="gull-rock"\nINTERVAL="1"\nLAMP="night"\n')
        self.assertRegex(seen["state"], r"0600 +0 +0 +65 gauge.key\n")
        self.assertEqual(re.findall(r"\S+$", seen["marks"], re.MULTILINE), ["gauge-key", "room"])
        states = {line.split()[0]: line.split()[1] for line in seen["services"].splitlines() if len(line.split()) == 4}
        self.assertEqual(
            {name: states.get(name) for name in ("first-boot", "network", "tidelog", "report", "wireless-wlan0")},
            {"first-boot": "done", "network": "done", "tidelog": "ready", "report": "ready", "wireless-wlan0": "ready"},
        )
        grown = max(int(line.split()[2]) for line in seen["partitions"].splitlines() if re.search(r" vda\d$", line))
        self.assertGreater(grown, root_kib)
        self.assertEqual(seen["log"].count(" room: done"), 1)
        self.assertEqual(seen["log"].count(" gauge-key: done"), 1)

    def check_card(self, card: Path, partition: int) -> None:
        """Other programs find table and filesystem in order."""
        said = subprocess.run(["sgdisk", "-v", card], capture_output=True, text=True, check=False).stdout
        self.assertIn("No problems found", said)
        found = json.loads(subprocess.run(["sfdisk", "--json", card], capture_output=True, text=True, check=True).stdout)
        one = found["partitiontable"]["partitions"][partition - 1]
        part = card.with_suffix(".part")
        with card.open("rb") as file:
            file.seek(one["start"] * 512)
            part.write_bytes(file.read(one["size"] * 512))
        done = subprocess.run(["e2fsck", "-fn", part], capture_output=True, text=True, check=False)
        self.assertEqual(done.returncode, 0, done.stdout)
        said = subprocess.run(["dumpe2fs", "-h", part], capture_output=True, text=True, check=True).stdout
        blocks = int(re.search(r"Block count: +(\d+)", said)[1]) * int(re.search(r"Block size: +(\d+)", said)[1])  # type: ignore[index]
        self.assertGreater(blocks, one["size"] * 512 - (1 << 20))


class ThePierSGauge(Inside):
    def test_all_that_was_declared(self) -> None:
        self.build()
        card = self.card()
        seen = self.look(("wait", "kill -9 report; sleep 3"), ("again", "cat /run/services"))
        self.check_common(seen, 70 << 10)
        self.check_card(card, 2)
        # Accounts: one by key only, one by password; numbers as they are written down.
        users = {line.split(":")[0]: line.split(":") for line in seen["users"].splitlines() if ":" in line}
        self.assertEqual((users["tide"][2], users["keeper"][5], users["master"][6]), ("100", "/home/keeper", "/bin/sh"))
        shadow = {line.split(":")[0]: line.split(":")[1] for line in seen["shadow"].splitlines() if ":" in line}
        self.assertIn(shadow["keeper"][0], "!*")
        self.assertIn(shadow["root"][0], "!*")
        self.assertTrue(shadow["master"].startswith("$6$"))
        self.assertRegex(seen["homes"], rf"0750 +{users['keeper'][2]} +{users['keeper'][3]} +\d+ keeper/")
        self.assertRegex(seen["keys"], rf"0600 +{users['keeper'][2]} +\d+ +\d+ authorized_keys")
        self.assertRegex(seen["modes"], r"0640 +0 +\d+ +\d+ shadow|0600 +0 +0 +\d+ shadow")
        # Services: each as its own account, in order, and started again when it was killed.
        before, after = (re.search(r"report ready (\d+) (\d+)", seen[name]) for name in ("services", "again"))
        assert before is not None and after is not None
        self.assertEqual((before[2], after[2]), ("1", "2"))
        self.assertNotEqual(before[1], after[1])
        self.assertIn("station gull-rock: ", seen["report"])
        self.assertRegex(seen["owners"], r"0644 +101 +101 +\d+ report\n")
        self.assertRegex(seen["owners"], r"06\d4 +100 +100 +\d+ level.log\n")
        # Mounts, network, and the wireless network's secret in a file that only root reads.
        self.assertRegex(seen["mounts"], r"(?m)^/dev/vda1 /boot vfat rw")
        self.assertRegex(seen["mounts"], r"(?m)^\S+ / ext4 rw")
        self.assertRegex(seen["addresses"], r"192\.0\.2\.7\n +/32 host LOCAL")
        self.assertRegex(seen["routes"], r"(?m)^eth0\s+00000000\s+010200C0")
        self.assertIn("nameserver 192.0.2.53", seen["resolver"])
        self.assertRegex(seen["radio"], r"0600 +0 +0 +\d+ wpa_supplicant-wlan0.conf")
        # The second start does nothing once more.
        second = self.look()
        self.check_common(second, 70 << 10)
        self.assertEqual((second["id"], second["log"]), (seen["id"], seen["log"]))

    def test_settings_edited_in_the_image(self) -> None:
        self.build()
        card = self.card()
        said = yarrik("boot", "set", card, "station=north-mole", "lamp=always")
        self.assertIn("gull-rock  ->  north-mole", said)
        seen = self.look()
        self.assertEqual(seen["name"], "north-mole-kw-0042\n" * 2)
        self.assertIn('STATION="north-mole"\n', seen["settings"])
        self.assertIn("station north-mole: ", seen["report"])
        # Later, in another computer: one line is wrong, so nothing is taken in.
        yarrik("boot", "set", card, "station=Mole", code=2)
        yarrik("boot", "set", card, "station=east-mole", "colour=red", "--file", "gauge.txt", code=2)

    def test_the_secrets_are_nowhere(self) -> None:
        self.build()
        for text in SECRETS.values():
            for place in (ROOT, Path(ENVIRONMENT.get("YARRIK_CACHE", Path.home() / ".cache/yarrik"))):
                done = subprocess.run(
                    ["grep", "-rlF", "--devices=skip", text, place], capture_output=True, text=True, check=False
                )
                self.assertEqual(done.stdout, "")
                self.assertIn(done.returncode, (1, 2))

    def test_the_menu_starts_the_recovery_in_memory(self) -> None:
        self.build()
        card = self.card()
        before = card.read_bytes()
        text = "".join(f"[[talk]]\nexpect = '{wanted}'\ntype = '{typed}'\n" for wanted, typed in (
            ("Enter choice: ", "2"), ("services started", ""), ("# ", "cat /proc/mounts; cat /etc/hostname; ls /usr/bin; poweroff"),
        )) + "[[talk]]\nexpect = 'init: powering off'\n"  # fmt: skip
        file = ROOT / ".yarrik" / "recovery.toml"
        file.write_text(text)
        yarrik("boot", *self.words, "--seconds", "60", "--keep-disk", "--until-off", "--talk", file)
        said = (ROOT / "out" / self.name / "boot.log").read_text(errors="replace").partition("Starting kernel")[2]
        self.assertRegex(said, r"(rootfs|none) / (rootfs|ramfs|tmpfs) rw")
        self.assertNotIn("/dev/vda", said)
        self.assertNotIn("tidelog", said)
        self.assertEqual(card.read_bytes(), before)  # it has not touched the card


class ASealedGauge(Inside):
    variants = ("sealed",)

    def test_the_root_is_read_only_and_the_log_is_kept(self) -> None:
        self.build()
        card = self.card()
        seen = self.look(("refused", "echo x > /etc/x"), ("level", "wc /var/lib/tide/level.log"))
        self.check_common(seen, 50 << 10)
        self.assertRegex(seen["mounts"], r"(?m)^\S+ / ext4 ro")
        self.assertRegex(seen["mounts"], r"(?m)^overlay /var/lib overlay rw.*upperdir=/data/places/var-lib")
        self.assertIn("Read-only file system", seen["refused"])
        self.check_card(card, 3)
        second = self.look(("level", "wc /var/lib/tide/level.log"))
        self.check_common(second, 50 << 10)
        self.assertEqual((second["id"], second["log"]), (seen["id"], seen["log"]))
        count = [int(re.search(r"\d+", one["level"])[0]) for one in (seen, second)]  # type: ignore[index]
        self.assertGreater(count[1], count[0])


class PowerIsCut(Inside):
    """At random moments between the kernel's start and the moment when all services run."""

    def cut(self, card: Path, after: bytes, seconds: float) -> str:
        """Starts the card, and ends the emulator that long after a text is seen. Returns all that was seen."""
        command = [sys.executable, "-m", "yarrik", "boot", *self.words, "--keep-disk", "--seconds", "60",
                   "--expect", "never to be seen"]  # fmt: skip
        process = subprocess.Popen(
            command, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, env=ENVIRONMENT, start_new_session=True
        )
        assert process.stdout is not None
        said = b""
        while after not in said:
            more = process.stdout.read1(4096)
            self.assertTrue(more, said[-2000:])
            said += more
        time.sleep(seconds)
        for emulator in emulators(card):
            os.kill(emulator, signal.SIGKILL)
        said += process.communicate(timeout=60)[0]
        return said.decode("utf-8", "replace")

    def test_at_random_moments(self) -> None:
        self.build()
        chance = random.Random(20)
        met: dict[str, int] = {}
        for number in range(CUTS):
            card = self.card()
            # Any moment; and in every second case one of those in which the card is written.
            whenever = number % 2 == 0
            moment = (b"Starting kernel", chance.uniform(0.3, 4.0)) if whenever else (b"first-boot: ", chance.uniform(0, 0.3))
            said = self.cut(card, *moment)
            if whenever and chance.random() < 0.5:
                said = self.cut(card, b"Starting kernel", chance.uniform(0.3, 4.0))
            marks = ["Starting kernel", "settings: settings of", "room: /", "room: done", "machine-id: written", "host-name: it is",
                     "gauge-key: done", "services started"]  # fmt: skip
            last = [mark for mark in marks if mark in said][-1]
            met[last] = met.get(last, 0) + 1
            with self.subTest(cut=number, after=last):
                self.check_common(self.look(), 70 << 10)
                self.check_card(card, 2)
        print(f"power was cut after: {met}", flush=True)
        self.assertTrue(met.keys() - {"Starting kernel", "services started"}, "a cut is to meet first-boot at work")
        if CUTS >= 20:
            self.assertGreater(len(met), 2, "the cuts are to meet different moments")


def emulators(card: Path) -> list[int]:
    """Processes of the emulator that have the card open."""
    found = []
    for folder in Path("/proc").iterdir():
        if folder.name.isdigit():
            try:
                words = (folder / "cmdline").read_bytes()
            except OSError:
                continue
            if b"qemu-system" in words.split(b"\0")[0] and str(card).encode() in words:
                found.append(int(folder.name))
    return found


if __name__ == "__main__":
    unittest.main()
