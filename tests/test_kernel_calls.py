"""Programs that call what the kernel's configuration leaves out are told before the board is started."""

import gzip
import shutil
import struct
import unittest
from pathlib import Path

from tests.support import FolderTest, WorkspaceTest
from tests.test_kernel import PretendedKernel, headers
from yarrik.elf import read_elf
from yarrik.kernel_calls import missing_needs, missing_options

BROKER = """
#include <sys/epoll.h>
#include <sys/timerfd.h>
__attribute__((weak)) int mq_open(const char *, int, ...);
int main(void) { return (epoll_create1(0) < 0) | (timerfd_create(0, 0) < 0) | (mq_open ? 4 : 0); }
"""
WATCHER = "#include <sys/inotify.h>\nint watch(void) { return inotify_init(); }\n"


class WhatAFileCalls(FolderTest):
    def calls(self, source: str, *flags: str, strip: bool = False) -> tuple[str, ...]:
        file = self.folder / "made"
        self.tool("gcc", "-x", "c", self.write("source.c", source), "-o", file, *flags)
        if strip:  # as the smallest images have it: no section headers, so the table's end is not known
            data = bytearray(file.read_bytes())
            struct.pack_into("<Q", data, 0x28, 0)
            struct.pack_into("<HH", data, 0x3C, 0, 0)
            file.write_bytes(data)
        facts = read_elf(file)
        assert facts is not None
        return facts.kernel_calls

    def test_undefined_functions_of_programs_and_libraries(self) -> None:
        self.assertEqual(self.calls(BROKER), ("epoll_create1", "timerfd_create"))  # a weak one may be missing
        self.assertEqual(self.calls(WATCHER, "-shared", "-fPIC"), ("inotify_init",))
        self.assertEqual(self.calls(WATCHER, "-shared", "-fPIC", strip=True), ("inotify_init",))

    def test_a_function_that_the_file_has_itself_asks_nobody(self) -> None:
        own = "int epoll_create1(int flags) { return flags; }\nint main(void) { return epoll_create1(0); }\n"
        self.assertEqual(self.calls(own, "-rdynamic"), ())
        self.assertEqual(self.calls("int my_epoll_create(void) { return 0; }\n", "-shared", "-fPIC"), ())

    def test_the_c_library_itself_calls_nothing(self) -> None:
        library = Path(self.tool("gcc", "-print-file-name=libc.so.6").strip())
        facts = read_elf(library)
        assert facts is not None
        self.assertEqual(facts.kernel_calls, ())

    def test_of_several_options_one_will_do(self) -> None:
        calls = ("epoll_create", "epoll_create1", "openpty", "unknown")
        self.assertEqual(missing_options(calls, {"EPOLL": "n"}),
                         {"EPOLL": ["epoll_create", "epoll_create1"], "UNIX98_PTYS": ["openpty"]})  # fmt: skip
        self.assertEqual(missing_options(calls, {"EPOLL": "y", "LEGACY_PTYS": "y"}), {})

    def test_programs_that_are_good_for_nothing_without_an_option(self) -> None:
        for path in ("/usr/sbin/dhcpcd", "/sbin/dhclient", "/usr/lib/systemd/systemd-networkd"):
            self.assertEqual(missing_needs(path, {"PACKET": "n"}), ["PACKET"])
            self.assertEqual(missing_needs(path, {}), ["PACKET"])
            self.assertEqual((missing_needs(path, {"PACKET": "m"}), missing_needs(path, {"PACKET": "y"})), ([], []))
        # Its library, its data, and another of a like name are not the program.
        for path in ("/usr/lib/libdhcpcd.so", "/usr/share/iw", "/usr/bin/iwlist", "/etc/systemd", "/var/lib/systemd"):
            self.assertEqual(missing_needs(path, {}), [])
        self.assertEqual(missing_needs("/usr/lib/systemd/systemd", {"CGROUPS": "y", "UNIX": "y", "SYSFS": "y", "PROC_FS": "y"}),
                         ["DEVTMPFS", "FHANDLE"])  # fmt: skip


class AKernelThatIsBuiltHere(PretendedKernel):
    def image(self, *packages: str) -> None:
        self.write("w/s/images/i.toml", f"packages = {['init', *packages]!r}\n")

    def test_each_option_with_its_callers_and_the_way_out(self) -> None:
        self.recipe("broker", "mkdir -p $DESTDIR/bin && $CC -o $DESTDIR/bin/broker b.c", {"b.c": BROKER})
        self.recipe("watcher", "mkdir -p $DESTDIR/lib && $CC -shared -fPIC -o $DESTDIR/lib/libwatch.so w.c", {"w.c": WATCHER})
        self.image("broker", "watcher")
        said = self.yarrik("build", at=self.root)
        flat = " ".join(said.split())
        self.assertIn(
            "the kernel has no CONFIG_EPOLL, and epoll_create1 will fail without it; called by /bin/broker (broker)", flat
        )
        self.assertIn(
            "no CONFIG_INOTIFY_USER, and inotify_init will fail without it; called by /lib/libwatch.so (watcher)", flat
        )
        self.assertIn("yarrik kernel set TIMERFD=y", flat)
        self.assertNotIn("POSIX_MQUEUE", said)
        fragment = self.root / "s/boards/b.kcfg"
        fragment.write_text(fragment.read_text() + "CONFIG_EPOLL=y\nCONFIG_TIMERFD=y\n")
        report = self.yarrik_json("build", at=self.root)
        notes = [note.partition(",")[0] for note in report["notes"] if "the kernel has no" in note]
        self.assertEqual(notes, ["p: the kernel has no CONFIG_INOTIFY_USER"])
        advice = [(one["about"], one["what"].partition(",")[0]) for one in report["advice"] if one["code"] == "KERNEL-CALL"]
        self.assertEqual(advice, [("p", "the kernel has no CONFIG_INOTIFY_USER")])
        product = self.root / "products/p.toml"
        product.write_text(product.read_text() + '[silence]\nKERNEL-CALL = "it polls where it cannot watch"\n')
        self.assertNotIn("the kernel has no", self.yarrik("build", at=self.root))
        codes = {one["code"] for one in self.yarrik_json("build", at=self.root)["advice"]}
        self.assertNotIn("KERNEL-CALL", codes)

    def test_a_program_that_does_not_work_without(self) -> None:
        """It calls nothing that would say so: the kind of socket that it opens is a number."""
        self.recipe(
            "dhcp", "mkdir -p $DESTDIR/sbin && $CC -o $DESTDIR/sbin/dhcpcd m.c", {"m.c": "int main(void) { return 0; }\n"}
        )
        self.image("dhcp")
        said = " ".join(self.yarrik("build", at=self.root).split())
        self.assertIn("the kernel has no CONFIG_PACKET, and /sbin/dhcpcd (dhcp) does not work without it", said)
        self.assertIn("yarrik kernel set PACKET=y", said)
        fragment = self.root / "s/boards/b.kcfg"
        fragment.write_text(fragment.read_text() + "CONFIG_PACKET=y\n")
        self.assertNotIn("CONFIG_PACKET", self.yarrik("build", at=self.root))

    def test_a_library_whose_user_brings_the_call(self) -> None:
        """The program names nothing of it: a plug-in that nobody is linked with does."""
        self.recipe(
            "plugin", "mkdir -p $DESTDIR/usr/lib/p && $CC -shared -fPIC -o $DESTDIR/usr/lib/p/x.so w.c", {"w.c": WATCHER}
        )
        self.image("plugin")
        self.assertIn("/usr/lib/p/x.so (plugin)", " ".join(self.yarrik("build", at=self.root).split()))


class AKernelFromElsewhere(WorkspaceTest):
    def said(self, configuration: bytes) -> str:
        """What a build says with a kernel that carries this."""
        shutil.rmtree(self.root / "s/recipes/kernel")
        kernel = headers()["header-x86"] + configuration
        self.recipe("kernel", "mkdir -p $DESTDIR/boot && cp bzImage $DESTDIR/boot", {"bzImage": kernel})
        self.recipe("broker", "mkdir -p $DESTDIR/bin && $CC -o $DESTDIR/bin/broker b.c", {"b.c": BROKER})
        self.write("w/s/images/i.toml", 'packages = ["init", "broker"]\n')
        return self.yarrik("build", at=self.root)

    def test_its_own_word_on_its_configuration_counts(self) -> None:
        disk = b"CONFIG_EXT4_FS=y\nCONFIG_EFI_PARTITION=y\nCONFIG_VIRTIO_BLK=y\n"
        said = self.said(b"IKCFG_ST" + gzip.compress(disk + b"CONFIG_TIMERFD=y\n", mtime=0) + b"IKCFG_ED")
        self.assertIn("the kernel has no CONFIG_EPOLL", said)
        self.assertNotIn("CONFIG_TIMERFD", said)

    def test_without_one_nothing_is_claimed(self) -> None:
        self.assertNotIn("the kernel has no", self.said(b""))

    def test_a_damaged_one_is_none(self) -> None:
        self.assertNotIn("the kernel has no", self.said(b"IKCFG_ST\x1f\x8b\x08 no gzip IKCFG_ED"))


if __name__ == "__main__":
    unittest.main()
