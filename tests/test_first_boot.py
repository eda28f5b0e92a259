"""What a board does itself at its first start: the program on the test machine, partition tables with power cut at each write,
settings on a card, and what a definition cannot say."""

import json
import os
import random
import shutil
import struct
import subprocess
import unittest
import zlib
from pathlib import Path

from tests.support import MAIN, STARTER, FolderTest, WorkspaceTest, starter_programs
from yarrik.boot.card_form import FormUnfit, card_text, form_lines, form_troubles, letters_of, read_form, shown_letters, unfit
from yarrik.boot.settings import read_settings
from yarrik.model import CardSetting, CardSettings

FLAGS = ["-static", "-O1", "-Wall", "-Wextra", "-Werror", "-fsanitize=undefined", "-fsanitize-undefined-trap-on-error"]
#: Works on a file as `grow.c` does on a disk. Power is cut in the middle of write number CUT: a part of a sector more than what
#: fits into whole sectors is lost, the rest is there or not.
CUT = r"""
#define _GNU_SOURCE
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>
static int writes, cut = -1, sectors_of_the_cut;
static ssize_t cut_write(int file, const void *data, size_t size, off_t at)
{
    if (writes++ == cut) {
        size_t part = (size_t)sectors_of_the_cut * 512;
        if (pwrite(file, data, part < size ? part : size, at) < 0)
            _exit(9);
        _exit(3);
    }
    return pwrite(file, data, size, at);
}
#define pwrite cut_write
#include "table.c"
#undef pwrite
int main(int count, char **words)
{
    int file = open(words[1], O_RDWR), done;
    unsigned sector = (unsigned)atoi(words[3]);
    uint64_t start = 0, end = 0;
    const char *why = "";
    struct stat status;
    if (count > 4)
        cut = atoi(words[4]), sectors_of_the_cut = atoi(words[5]);
    fstat(file, &status);
    done = grow_entry(file, sector, (uint64_t)status.st_size / sector, (unsigned)atoi(words[2]), &start, &end, &why);
    printf("%d %llu %llu %d %s\n", done, (unsigned long long)start, (unsigned long long)end, writes, done < 0 ? why : "");
    return done < 0;
}
"""


class ThePartitionGrows(FolderTest):
    @classmethod
    def setUpClass(cls) -> None:
        cls.work = Path(f"/tmp/yarrik-test-grow-{os.getpid()}")
        cls.work.mkdir(exist_ok=True)
        cls.addClassCleanup(shutil.rmtree, cls.work)
        (cls.work / "cut.c").write_text(CUT)
        source = STARTER / "init/src"
        subprocess.run(["gcc", *FLAGS, f"-I{source}", "-o", cls.work / "cut", cls.work / "cut.c"], check=True)

    def grow(self, disk: Path, number: int, *cut: int, sector: int = 512) -> tuple[int, str]:
        words = [self.work / "cut", disk, str(number), str(sector), *map(str, cut)]
        done = subprocess.run(words, capture_output=True, text=True, check=False)
        self.assertIn(done.returncode, (0, 1, 3), done.stderr)
        return done.returncode, done.stdout.strip()

    def disk(self, table: str, small: str = "8M", large: str = "40M", script: str = "") -> Path:
        """A disk with two partitions that was written for a smaller card."""
        disk = self.folder / "disk"
        disk.unlink(missing_ok=True)
        self.tool("truncate", "-s", small, disk)
        text = script or f"label: {table}\nstart=2048, size=4096\nstart=6144, size=8192\n"
        subprocess.run(["sfdisk", "-q", disk], input=text, text=True, check=True, capture_output=True)
        self.tool("truncate", "-s", large, disk)
        return disk

    def partitions(self, disk: Path) -> list[tuple[int, int]]:
        found = json.loads(subprocess.run(["sfdisk", "--json", disk], capture_output=True, text=True, check=True).stdout)
        return [(one["start"], one["size"]) for one in found["partitiontable"]["partitions"]]

    def test_up_to_the_end_as_other_programs_see_it(self) -> None:
        disk = self.disk("gpt")
        self.assertEqual(self.grow(disk, 2)[0], 0)
        first, last = self.partitions(disk)
        self.assertEqual((first, last), ((2048, 4096), (6144, (40 << 20) // 512 - 40 - 6144)))
        self.assertIn("No problems found", self.tool("sgdisk", "-v", disk))
        before = disk.read_bytes()
        self.assertEqual(self.grow(disk, 2)[1].split()[0], "0")
        self.assertEqual(disk.read_bytes(), before)
        disk = self.disk("dos")
        self.assertEqual(self.grow(disk, 2)[0], 0)
        self.assertEqual(self.partitions(disk), [(2048, 4096), (6144, (40 << 20) // 512 - 6144)])
        self.assertEqual(self.grow(disk, 2)[1].split()[0], "0")

    def test_power_is_cut_in_every_write(self) -> None:
        """After each cut the primary table is valid, as the kernel has it, with the old end or the new one; and the next start
        ends where an uncut one does."""
        fresh = self.disk("gpt").read_bytes()
        old = self.partitions(self.folder / "disk")
        self.grow(self.folder / "disk", 2)
        wanted, new = (self.folder / "disk").read_bytes(), self.partitions(self.folder / "disk")
        writes = int(self.grow(self.disk("gpt"), 2)[1].split()[3])
        self.assertGreater(writes, 8)
        seen = set()
        for cut in range(writes):
            for sectors in (0, 1, 3, 17):
                disk = self.folder / "disk"
                disk.write_bytes(fresh)
                self.assertEqual(self.grow(disk, 2, cut, sectors)[0], 3)
                # The kernel does not look at a backup: without one, the table has to be the same.
                alone = self.folder / "alone"
                alone.write_bytes(disk.read_bytes()[: 6144 * 512] + bytes((40 << 20) - 6144 * 512))
                found = self.partitions(alone)
                self.assertIn(found, (old, new), f"write {cut}, {sectors} sectors")
                seen.add(tuple(found))
                second = random.Random(cut * 100 + sectors).randrange(writes)
                self.grow(disk, 2, second, sectors)  # once more in the second attempt
                self.assertEqual(self.grow(disk, 2)[0], 0)
                self.assertEqual(self.partitions(disk), new)
                self.assertEqual(disk.read_bytes()[-(33 * 512) :], wanted[-(33 * 512) :])
                self.assertEqual(disk.read_bytes()[: 34 * 512], wanted[: 34 * 512])
        self.assertEqual(seen, {tuple(old), tuple(new)})

    def test_a_card_that_was_used_before(self) -> None:
        """A backup at the card's end is of what was on it before: same disk identifier, other partitions."""
        label = "label-id: 11111111-2222-3333-4444-555555555555"
        disk = self.disk("gpt", script=f"label: gpt\n{label}\nstart=2048, size=4096\nstart=6144, size=8192\n")
        self.grow(disk, 2)
        end = disk.read_bytes()[-(33 * 512) :]
        disk = self.disk("gpt", script=f"label: gpt\n{label}\nstart=2048, size=2048\nstart=8192, size=6000\n")
        with disk.open("r+b") as file:
            file.seek(-33 * 512, 2)
            file.write(end)
        self.assertEqual(self.grow(disk, 2)[0], 0)
        self.assertEqual([start for start, _ in self.partitions(disk)], [2048, 8192])
        self.assertIn("No problems found", self.tool("sgdisk", "-v", disk))

    def test_large_sectors(self) -> None:
        """As in test_up_to_the_end, with the structures of the UEFI specification, 5.3, at blocks of 4096 bytes."""
        sectors, block = 4096, 4096
        disk = bytearray(sectors * block)
        entries = bytearray(128 * 128)
        for number, (first, last) in enumerate(((256, 767), (768, 1791))):
            struct.pack_into("<16s16sQQ", entries, number * 128, b"t" * 16, bytes([number + 1]) * 16, first, last)
        disk[446 + 4], disk[510:512] = 0xEE, b"\x55\xaa"
        struct.pack_into("<II", disk, 446 + 8, 1, sectors - 1)
        for here, other, at in ((1, sectors - 1, 2), (sectors - 1, 1, sectors - 5)):
            header = struct.pack("<8sIIIIQQQQ16sQIII", b"EFI PART", 0x10000, 92, 0, 0, here, other, 6, sectors - 6, b"d" * 16, at,
                                 128, 128, zlib.crc32(entries))  # fmt: skip
            disk[here * block : here * block + 92] = header[:16] + struct.pack("<I", zlib.crc32(header)) + header[20:]
            disk[at * block : at * block + len(entries)] = entries
        file = self.write("disk", bytes(disk) + bytes(3 * len(disk)))
        self.assertEqual(self.grow(file, 2, sector=block)[:1], (0,))
        data = file.read_bytes()
        for here, at in ((1, 2), (4 * sectors - 1, 4 * sectors - 5)):
            header = data[here * block : here * block + 92]
            self.assertEqual(zlib.crc32(header[:16] + bytes(4) + header[20:]), struct.unpack_from("<I", header, 16)[0])
            self.assertEqual(struct.unpack_from("<Q", header, 72)[0], at)
            table = data[at * block : at * block + len(entries)]
            self.assertEqual(zlib.crc32(table), struct.unpack_from("<I", header, 88)[0])
            self.assertEqual(struct.unpack_from("<QQ", table, 128 + 32), (768, 4 * sectors - 6))

    def test_what_stays_as_it_is(self) -> None:
        for number, table, words in ((1, "gpt", "another partition is behind it"), (1, "dos", "another partition is behind it"),
                                     (3, "gpt", "the partition is not in the table"), (200, "gpt", "not in the table"),
                                     (5, "dos", "it is not one of the table's four")):  # fmt: skip
            disk = self.disk(table)
            before = disk.read_bytes()
            code, said = self.grow(disk, number)
            self.assertEqual((code, words in said), (1, True), said)
            self.assertEqual(disk.read_bytes(), before)
        damaged = self.disk("gpt")
        with damaged.open("r+b") as file:
            file.seek(512 + 20)
            file.write(b"\x01")
        self.assertIn("damaged", self.grow(damaged, 2)[1])
        empty = self.write("empty", bytes(8 << 20))
        self.assertIn("has no partition table", self.grow(empty, 1)[1])

    def test_random_damage_never_moves_another_partition(self) -> None:
        fresh = self.disk("gpt").read_bytes()
        chance = random.Random(16)
        disk = self.folder / "disk"
        for _ in range(150):
            data = bytearray(fresh)
            for _ in range(chance.randrange(1, 4)):
                place = chance.choice([chance.randrange(512, 1024), chance.randrange(1024, 1400), chance.randrange(440, 512)])
                data[place] = chance.randrange(256)
            disk.write_bytes(data)
            code, _said = self.grow(disk, 2)
            if code == 0:
                self.assertEqual(disk.read_bytes()[1024 : 1024 + 128], data[1024 : 1024 + 128])
            else:
                self.assertEqual(disk.read_bytes(), bytes(data))


class TheProgram(FolderTest):
    """`first-boot --root`, on the test machine."""

    @classmethod
    def setUpClass(cls) -> None:
        cls.programs = Path(f"/tmp/yarrik-test-first-boot-{os.getpid()}")
        cls.programs.mkdir(exist_ok=True)
        cls.addClassCleanup(shutil.rmtree, cls.programs)
        starter_programs(cls.programs, FLAGS, "init")

    def setUp(self) -> None:
        super().setUp()
        self.root = self.folder / "root"
        for name in ("etc", "boot", "var/lib"):
            (self.root / name).mkdir(parents=True)
        self.write("root/etc/hosts", "127.0.0.1 localhost\n127.0.1.1 tide-gauge\n192.0.2.1 office\n")
        self.write("root/etc/hostname", "tide-gauge\n")
        self.write("root/etc/machine-id", "")

    def start(self, code: int = 0) -> str:
        done = subprocess.run([self.programs / "first-boot", "--root", self.root], capture_output=True, text=True, check=False)
        self.assertEqual(done.returncode, code, done.stderr)
        return done.stderr

    def plan(self, *lines: str, card: CardSettings | None = None) -> None:
        more = form_lines(card, "/boot/gauge.txt") if card is not None else ()
        self.write("root/etc/first-boot", "\n".join(["state = /var/lib/first-boot", *more, *lines, ""]))

    def state(self, name: str) -> Path:
        return self.root / "var/lib/first-boot" / name

    def test_the_machine_s_name_and_number_come_once(self) -> None:
        self.write("root/proc/device-tree/serial-number", b"KW_0042\0")
        self.plan("action = machine-id machine-id", "action = host-name name", "text = gauge-{serial}")
        said = self.start()
        self.assertIn("name: it is gauge-kw-0042", said)
        first = (self.root / "etc/machine-id").read_text()
        self.assertRegex(first, r"\A[0-9a-f]{12}4[0-9a-f]{3}[89ab][0-9a-f]{15}\n\Z")
        self.assertEqual((self.root / "etc/hostname").read_text(), "gauge-kw-0042\n")
        self.assertEqual((self.root / "etc/hosts").read_text(),
                         "127.0.0.1 localhost\n127.0.1.1 gauge-kw-0042\n192.0.2.1 office\n")  # fmt: skip
        self.assertEqual(self.start(), "")
        self.assertEqual((self.root / "etc/machine-id").read_text(), first)
        self.assertRegex(
            self.state("log").read_text(), r"\A\[\d+\.\d{3}\] machine-id: written\n\[\d+\.\d{3}\] name: it is gauge-kw-0042\n\Z"
        )

    def test_without_a_serial_number_the_network_has_one(self) -> None:
        self.write("root/sys/class/net/lo/address", "00:00:00:00:00:00\n")
        self.write("root/sys/class/net/eth1/address", "52:54:00:00:11:06\n")
        self.write("root/sys/class/net/eth0/address", "52:54:00:00:11:05\n")
        self.plan("action = host-name name", "text = {serial}")
        self.start()
        self.assertEqual((self.root / "etc/hostname").read_text(), "525400001105\n")
        shutil.rmtree(self.root / "sys")
        self.assertIn("`{serial}` makes no host name: a setting in it is empty, or the board has no serial", self.start(code=1))

    def test_names_are_made_to_fit(self) -> None:
        card = CardSettings(file="gauge.txt", setting=(CardSetting(name="station", usual="Gull Rock / pier_3!"),))
        self.plan("action = host-name name", "text = -{station}-" + "x" * 80, card=card)
        self.start()
        name = (self.root / "etc/hostname").read_text().strip()
        self.assertEqual((name[:18], len(name)), ("gull-rock-pier-3-x", 63))

    def test_keys_are_whole_or_not_there(self) -> None:
        keys = self.root / "etc/ssh"
        self.plan(
            "action = host-keys keys", "folder = /etc/ssh", "program = /usr/bin/ssh-keygen", "type = ed25519", "type = ecdsa"
        )
        keys.mkdir()
        (keys / ".new_ed25519_key").write_text("half a k")  # of a start that was cut
        self.assertIn("keys: made a key of type ed25519", self.start())
        shown = self.tool("ssh-keygen", "-l", "-f", keys / "ssh_host_ed25519_key")
        self.assertIn("(ED25519)", shown)
        self.assertEqual((keys / "ssh_host_ed25519_key").stat().st_mode & 0o777, 0o600)
        self.assertEqual({path.name for path in keys.iterdir()}, {"ssh_host_ed25519_key", "ssh_host_ed25519_key.pub",
                                                                    "ssh_host_ecdsa_key", "ssh_host_ecdsa_key.pub"})  # fmt: skip
        self.assertEqual(self.start(), "")
        self.assertEqual(self.tool("ssh-keygen", "-l", "-f", keys / "ssh_host_ed25519_key"), shown)
        (keys / "ssh_host_ecdsa_key").write_bytes(b"")  # as an old kernel may leave it when power is cut
        self.assertIn("made a key of type ecdsa", self.start())

    def test_a_program_is_run_until_it_has_done_its_work(self) -> None:
        made = self.root / "etc/made"
        self.write(
            "work", f"#!/bin/sh\necho run >> {self.folder}/runs\ntest -e {self.folder}/good && echo x > {made}\nexit 0\n"
        )
        (self.folder / "work").chmod(0o755)
        self.plan("action = run calibrate", f"program = {self.folder}/work", "creates = /etc/made")
        self.assertIn("did not make /etc/made", self.start(code=1))
        self.write("good", "")
        self.assertIn("calibrate: done", self.start())
        self.assertEqual(self.start(), "")
        self.assertEqual((self.folder / "runs").read_text(), "run\nrun\n")
        self.plan("action = run other", "program = /nonexistent")
        self.assertIn("cannot start /nonexistent", self.start(code=1))

    def test_the_log_has_what_was_done_once_whenever_power_was_cut(self) -> None:
        self.plan("action = run calibrate", "program = /bin/true", "action = run level", "program = /bin/true")
        self.start()
        whole = self.state("log").read_text()
        self.assertEqual(self.state("done/level").read_text(), whole.splitlines(keepends=True)[1])
        # Cut when the mark was on the disk and its line was not.
        self.state("log").write_text(whole.splitlines(keepends=True)[0])
        self.assertEqual(self.start(), "first-boot: level: done\n")
        self.assertEqual(self.state("log").read_text(), whole)
        self.assertEqual(self.start(), "")
        # A mark of an older first-boot is empty, and says nothing.
        self.state("done/level").write_text("")
        self.assertEqual(self.start(), "")
        self.assertEqual(self.state("log").read_text(), whole)

    def test_settings_are_taken_in_as_a_whole(self) -> None:
        card = CardSettings(file="gauge.txt", setting=(
            CardSetting(name="station", usual="gull-rock", letters="a-z0-9-", longest=20),
            CardSetting(name="interval", kind="number", usual="1", least=1, most=60),
            CardSetting(name="note"),
        ))  # fmt: skip
        self.plan(card=card)
        self.start()
        usual = 'STATION="gull-rock"\nINTERVAL="1"\nNOTE=""\n'
        self.assertEqual(self.state("settings").read_text(), usual)
        file = self.write(
            "root/boot/gauge.txt",
            b'\xef\xbb\xbf# edited elsewhere\r\nstation = north-mole\r\n\r\nnote = a "$5" \\ `x` note\r\n',
        )
        self.assertIn("settings of", self.start())
        taken = 'STATION="north-mole"\nINTERVAL="1"\nNOTE="a \\"\\$5\\" \\\\ \\`x\\` note"\n'
        self.assertEqual(self.state("settings").read_text(), taken)
        shell = subprocess.run(
            ["sh", "-c", f'. {self.state("settings")}; echo "$STATION|$NOTE"'], capture_output=True, text=True, check=True
        )
        self.assertEqual(shell.stdout, 'north-mole|a "$5" \\ `x` note\n')
        for wrong, words in (("interval = 61", "line 2: `interval` cannot be `61`: it is out of range"), ("nonsense", "line 2: it is not KEY = VALUE"),
                             ("colour = red", "line 2: there is no setting `colour`"), ("station = A\x1b[2J", "control character")):  # fmt: skip
            file.write_text(f"station = south-mole\n{wrong}\n")
            said = self.start(code=1)
            self.assertIn(words, said)
            self.assertNotIn("\x1b", said)
            self.assertIn("the settings of before stay", said)
            self.assertEqual(self.state("settings").read_text(), taken)
        file.unlink()
        self.assertEqual(self.start(), "")
        self.assertEqual(self.state("settings").read_text(), taken)

    def test_a_wrong_file_on_a_new_card(self) -> None:
        card = CardSettings(file="gauge.txt", setting=(CardSetting(name="station", usual="gull-rock"),))
        self.plan(card=card)
        self.write("root/boot/gauge.txt", "what = ever\n")
        self.assertIn("settings are as built", self.start(code=1))
        self.assertEqual(self.state("settings").read_text(), 'STATION="gull-rock"\n')
        self.write("root/boot/gauge.txt", "x" * 70_000)
        self.assertIn("cannot read", self.start(code=1))

    def test_secret_values_are_in_no_log(self) -> None:
        card = CardSettings(file="gauge.txt", setting=(CardSetting(name="word", secret=True, letters="a-z"),))
        self.plan(card=card)
        self.write("root/boot/gauge.txt", "word = pier\n")
        self.start()
        self.assertEqual(self.state("settings").stat().st_mode & 0o777, 0o600)
        self.write("root/boot/gauge.txt", "word = NOON\n")
        self.assertNotIn("NOON", self.start(code=1) + self.state("log").read_text())

    def test_the_board_and_we_agree_on_every_value(self) -> None:
        chance = random.Random(1616)
        kinds = [
            CardSetting(name="v", longest=5), CardSetting(name="v", letters="a-f ~"), CardSetting(name="v", kind="number"),
            CardSetting(name="v", kind="number", least=-5, most=7), CardSetting(name="v", kind="number", least=3),
            CardSetting(name="v", kind="choice", one_of=("a", "b c", "é")), CardSetting(name="v", kind="switch"),
            CardSetting(name="v", kind="address"), CardSetting(name="v"),
        ]  # fmt: skip
        known = ["", "a", "b c", "é", "yes", "no", "Yes", "7", "8", "-5", "-6", "007", "+1", "9223372036854775807", "9223372036854775808",
                 "-9223372036854775808", "-9223372036854775809", "1e3", "192.0.2.1", "192.0.2.256", "192.0.2", "::1", "2001:db8::7",
                 "2001:db8::g", "abcde", "abcdef", "äöüßé", "a\x7f", "a\tb", "x" * 256, "x" * 257, "ü" * 129, "a = b", "#x", '"q"',
                 "aa  ff", "~", "٣"]  # fmt: skip
        for one in kinds:
            self.plan(card=CardSettings(file="gauge.txt", setting=(one,)))
            values = known + ["".join(chance.choices("ab f-1579.:é~", k=chance.randrange(1, 9))).strip() for _ in range(12)]
            for value in values:
                shutil.rmtree(self.root / "var/lib/first-boot", ignore_errors=True)
                (self.root / "boot/gauge.txt").write_text(f"v = {value}\n", newline="")
                done = subprocess.run([self.programs / "first-boot", "--root", self.root], capture_output=True, check=False)
                self.assertEqual(
                    done.returncode == 0, unfit(one, value) == "", f"{one.kind} {value!r}: {unfit(one, value)} {done.stderr!r}"
                )

    def test_a_link_in_the_place_of_its_files_is_not_followed(self) -> None:
        self.plan("action = machine-id machine-id")
        self.state("done").mkdir(parents=True)
        target = self.write("elsewhere", "mine\n")
        self.state("log").symlink_to(target)
        (self.root / "etc/machine-id.new").symlink_to(target)
        self.start()
        self.assertEqual(target.read_text(), "mine\n")
        self.assertRegex((self.root / "etc/machine-id").read_text(), r"\A[0-9a-f]{32}\n\Z")


class AForm(unittest.TestCase):
    def test_is_read_as_it_was_written(self) -> None:
        card = CardSettings(file="gauge.txt", setting=(
            CardSetting(name="station", usual="gull-rock", longest=32, letters="a-z0-9-", summary="Where it hangs"),
            CardSetting(name="interval", kind="number", usual="60", least=1, most=3600),
            CardSetting(name="lamp", kind="choice", one_of=("night", "by day"), usual="by day"),
            CardSetting(name="word", secret=True),
        ))  # fmt: skip
        found = read_form(
            "state = /x\n" + "".join(f"{line}\n" for line in form_lines(card, "/boot/gauge.txt")) + "action = run x\n"
        )
        assert found is not None
        self.assertEqual((found.file, list(found.settings)), ("gauge.txt", ["station", "interval", "lamp", "word"]))
        for one in card.setting:
            for value in ("", "gull-rock", "Gull", "60", "0", "by day", "x" * 40):
                self.assertEqual(unfit(found.settings[one.name], value) == "", unfit(one, value) == "")
        self.assertEqual(read_settings(card_text(card, "gauge")), {one.name: one.usual for one in card.setting})
        self.assertIsNone(read_form("state = /x\naction = run x\n"))

    def test_letters(self) -> None:
        self.assertEqual(letters_of("a-c-"), "abc-")
        self.assertEqual(shown_letters("0-9a-z-"), "0-9a-z-")
        self.assertEqual(shown_letters("cba xy"), "a bcxy")
        for text in ("+-", "a-z0-9-", " ~", "-", "- ", "!-~ ", ",-/", "a-z -"):
            self.assertEqual(set(letters_of(letters_of(text))), set(letters_of(text)), text)
            self.assertEqual(letters_of(text), letters_of(text).strip(), text)
        self.assertEqual(set(letters_of(" a-b")), {" ", "a", "b"})
        self.assertEqual(letters_of(" a").strip(), letters_of(" a"))
        for wrong in ("z-a", "é", " ", "\x01"):
            with self.assertRaises(FormUnfit):
                letters_of(wrong)

    def test_what_cannot_be(self) -> None:
        for one, words in (
            (CardSetting(name="v", kind="number", usual="5", most=4), "usual value `5` cannot be"),
            (CardSetting(name="v", kind="number", usual="5", letters="a"), "`letters` says nothing of a number"),
            (CardSetting(name="v", kind="choice", usual="a"), "needs its words"),
            (CardSetting(name="v", kind="choice", one_of=("a", " b"), usual="a"), "a blank at one of its ends"),
            (CardSetting(name="v", kind="number", usual="3", least=4, most=2), "`least` is more than `most`"),
            (CardSetting(name="v", letters="z-a"), "no range of characters"),
            (CardSetting(name="v", usual="x\ny"), "control character"),
        ):
            self.assertTrue(any(words in text for _, text in form_troubles([one])), words)


class AnImageSaysIt(WorkspaceTest):
    """Through definitions, and the built program."""

    CARD = """
[card-settings]
file = "gauge.txt"
[[card-settings.setting]]
name = "station"
usual = "gull-rock"
letters = "a-z-"
summary = "Where the gauge hangs"
[[card-settings.setting]]
name = "word"
secret = true
"""
    DISK = """
[[disk]]
name = "card"
[[disk.partition]]
name = "boot"
filesystem = "fat"
size = "fit + 64 KiB"
holds = "boot"
mount = "/boot"
[[disk.partition]]
name = "root"
filesystem = "ext4"
size = "fit + 1 MiB"
holds = "root"
"""

    def setUp(self) -> None:
        super().setUp()
        # A stand-in for the program on the board: the tests of the program itself are above.
        self.recipe("first-boot", "mkdir -p $DESTDIR/sbin && $CC $CFLAGS $LDFLAGS -o $DESTDIR/sbin/first-boot init.c",
                    {"init.c": MAIN})  # fmt: skip
        self.board(self.DISK)

    def image(self, more: str) -> None:
        (self.root / "s/images/i.toml").write_text(f'packages = ["init"]\n{more}')

    def board(self, text: str, more: str = "") -> None:
        self.write("w/s/boards/b.toml", f'arch = "host"\n[kernel]\nrecipe = "kernel"\n{more}{text}')

    def action(self, **keys: object) -> None:
        rows = "".join(f"{key} = {json.dumps(value)}\n" for key, value in keys.items())
        self.image(f'[[first-boot.action]]\nname = "one"\n{rows}')

    def test_the_program_comes_by_itself_and_starts_first(self) -> None:
        self.image(
            self.CARD
            + """
[[first-boot.action]]
name = "room"
do = "grow"
[[first-boot.action]]
name = "key"
do = "run"
program = "/sbin/first-boot"
arguments = ["two words"]
creates = ["/etc/key"]
[[service]]
name = "report"
program = "/sbin/init"
environment-file = "/var/lib/first-boot/settings"
"""
        )
        self.yarrik("build", at=self.root)
        self.assertEqual(self.content("/etc/first-boot"), (
            "state = /var/lib/first-boot\ncard = /boot/gauge.txt\nsetting = station text\nusual = gull-rock\n"
            "letters = abcdefghijklmnopqrstuvwxyz-\nsetting = word text\nusual = \nsecret = yes\naction = grow room\non = /\n"
            "action = run key\nprogram = /sbin/first-boot\nargument = two words\ncreates = /etc/key\n"
        ))  # fmt: skip
        self.assertEqual(self.content("/etc/services/first-boot.service"), (
            "# Does what is due at the first start, and takes settings in\nrun = /sbin/first-boot\nonce = yes\n"
        ))  # fmt: skip
        self.assertEqual(self.content("/etc/services/report.service"),
                         "run = /sbin/init\nvariables = /var/lib/first-boot/settings\nafter = first-boot\n")  # fmt: skip
        said = self.yarrik("why", "first-boot", at=self.root)
        self.assertIn("the image i (first boot) asks for `first-boot`  s/images/i.toml:14", said)
        said = self.yarrik("show", "--services", "p", at=self.root)
        self.assertRegex(said, r"programs\n +first-boot +/sbin/first-boot\n(.+\n)+said in\n +first-boot +s/images/i.toml:14\n")

    def test_settings_are_edited_in_the_image_and_checked(self) -> None:
        self.image(self.CARD)
        self.yarrik("build", at=self.root)
        image = self.root / "out/p/p.img"
        said = self.yarrik("boot", "set", image)
        self.assertRegex(said, r"boot:/gauge.txt\n +station +gull-rock +A text, all of them a-z-\n +word")
        self.assertIn("# Where the gauge hangs. A text, all of them a-z-\nstation = gull-rock\n", self.content("/gauge.txt"))
        before = image.read_bytes()
        for word, words in (
            ("station=Gull", "`station` cannot be `Gull`: `G` is none of its letters"),
            ("statoin=gull", "there is no setting `statoin`"),
            ("station= gull", "`station` cannot be ` gull`: it has a blank"),
        ):
            said = self.yarrik("boot", "set", image, word, "--file", "gauge.txt", code=2)
            self.assertIn(f"SETTING-FORM: p.img: {words}", said)
        self.assertIn(
            "did you mean `station`?", self.yarrik("boot", "set", image, "statoin=gull", "--file", "gauge.txt", code=2)
        )
        self.assertEqual(image.read_bytes(), before)
        said = self.yarrik("boot", "set", image, "station=north-mole", "word=SecretNoon")
        self.assertIn("gull-rock  ->  north-mole", said)
        self.assertNotIn("SecretNoon", said)
        self.assertNotIn("SecretNoon", self.yarrik("boot", "set", image, "--json"))
        self.assertIn("word = SecretNoon", self.content("/gauge.txt"))
        self.tool("fsck.fat", "-n", self.partition(image))
        self.assertIn(
            "(not set; gull-rock)", self.yarrik("boot", "set", image, "station=") and self.yarrik("boot", "set", image)
        )

    def partition(self, image: Path) -> Path:
        """The boot partition as a file of its own."""
        found = json.loads(self.tool("sfdisk", "--json", image))["partitiontable"]["partitions"][0]
        data = image.read_bytes()[found["start"] * 512 : (found["start"] + found["size"]) * 512]
        return self.write("partition", data)

    def test_a_partition_that_cannot_grow(self) -> None:
        def grown(words: str, disk: str = self.DISK, more: str = "", **keys: object) -> None:
            self.board(disk, more)
            self.action(do="grow", **keys)
            self.assertIn(f"FIRST-BOOT-GROW: {words}", self.yarrik("check", at=self.root, code=2))

        behind = '[[disk.partition]]\nname = "data"\nfilesystem = "ext4"\nsize = "1 MiB"\nmount = "/data"\n'
        grown("the partition `root` cannot grow: data is behind it", self.DISK + behind)
        grown("the board has no partition `dat`", self.DISK + behind, partition="dat")
        grown(
            "the partition `data` cannot grow: it is not mounted",
            self.DISK + behind.replace('mount = "/data"', ""),
            partition="data",
        )
        grown("the partition `root` cannot grow: the kernel cannot make squashfs larger", self.DISK.replace("ext4", "squashfs").replace(
            "fit + 1 MiB", "fit"))  # fmt: skip
        grown("the partition `root` cannot grow: it is mounted read-only", more="[boot]\nread-only = true\n")
        self.board(self.DISK + behind)
        self.action(do="grow", partition="data")
        self.yarrik("check", at=self.root)

    def test_actions_that_lack_something(self) -> None:
        for keys, words in (
            ({"do": "run"}, "the action `one` has no `program`"),
            ({"do": "host-name"}, "the action `one` has no `text`"),
            ({"do": "machine-id", "program": "/bin/x"}, "the action `one` has `program`"),
            ({"do": "host-name", "text": "{sreial}"}, "has {sreial}, which stands for nothing"),
            ({"do": "run", "program": "/sbin/init", "arguments": [" x"]}, "an argument of `one` is empty, or has a blank"),
            ({"do": "run", "program": "/sbin/init", "arguments": ["x"] * 17}, "there is room for 16 arguments"),
        ):
            self.action(**keys)
            self.assertIn(
                f"FIRST-BOOT-FORM: {words}" if "has {" not in words else words, self.yarrik("check", at=self.root, code=2)
            )
        self.action(do="run", program="/usr/bin/calibrate")
        said = self.yarrik("build", at=self.root, code=1)
        self.assertIn("SERVICE-PROGRAM: the first start's `one` runs /usr/bin/calibrate, which is not in the image", said)
        self.action(do="host-keys")
        self.assertIn("runs /usr/bin/ssh-keygen, which is not in the image", self.yarrik("build", at=self.root, code=1))

    def test_what_would_be_forgotten(self) -> None:
        sealed = "[boot]\nread-only = true\n"
        data = '[[disk.partition]]\nname = "data"\nfilesystem = "ext4"\nsize = "1 MiB"\nmount = "/data"\n'
        self.board(self.DISK + data, sealed)
        self.action(do="machine-id")
        said = self.yarrik("check", at=self.root, code=2)
        self.assertIn("FIRST-BOOT-PLACE: /var/lib/first-boot is not kept: the root filesystem is read-only, or in memory", said)
        machine_id = '[[first-boot.action]]\nname = "one"\ndo = "machine-id"\n'
        self.image('writable = [{ path = "/var", by = "memory" }]\n' + machine_id)
        self.assertIn("/var is read-only, or in memory", self.yarrik("check", at=self.root, code=2))
        for good in ('writable = [{ path = "/var", by = "bind", on = "/data" }]\n', '[first-boot]\nstate = "/data/state"\n'):
            self.image(good + machine_id)
            self.yarrik("check", at=self.root)

    def test_settings_that_cannot_be(self) -> None:
        self.image('[card-settings]\n[[card-settings.setting]]\nname = "lamp"\nkind = "number"\nmost = 3\nusual = "4"\n')
        said = self.yarrik("check", at=self.root, code=2)
        self.assertIn("CARD-SETTING: the setting `lamp`: its usual value `4` cannot be: it is not between", said)
        self.assertIn("s/images/i.toml:3", said)
        self.image(self.CARD)
        self.board(self.DISK.replace('mount = "/boot"', ""))
        self.assertIn(
            "CARD-PLACE: the board has no FAT boot partition that is mounted", self.yarrik("check", at=self.root, code=2)
        )
        for wrong, words in (
            ('name = "Lamp"', "is not a setting's name"),
            ('file = "a/b.txt"', "is not a settings file's name"),
        ):
            key = "[card-settings]\n" if "file" in wrong else "[[card-settings.setting]]\n"
            self.image(f"{key}{wrong}\n")
            self.assertIn(words, self.yarrik("check", at=self.root, code=2))


if __name__ == "__main__":
    unittest.main()
