"""Libraries for devices and their data: what nobody would drive, and what is not there, is told by the bench."""

import io
import shutil
import tempfile
import unittest
from pathlib import Path
from unittest import mock

from tests.support import WorkspaceTest
from tests.test_kernel import headers
from yarrik.boot.root_check import RootChecks
from yarrik.boot.seen import Filesystem
from yarrik.devicetree import DeviceTree, compile_source
from yarrik.disk import write_cpio
from yarrik.elf import elf_facts
from yarrik.rootfs import Node, RootTree

DRIVER = "kernel/drivers/gpu/drm/virtio/virtio-gpu.ko"
DEP = f"{DRIVER}: kernel/drivers/gpu/drm/drm.ko\nkernel/drivers/gpu/drm/drm.ko:\nkernel/drivers/gpu/drm/bridge/x/b.ko:\n"
TOP = "/lib/modules/9.9"
SCREEN = {"/usr/lib/libdrm.so.2.4.0": ""}


class WhatIsTold(unittest.TestCase):
    def told(
        self, files: dict[str, str], config: dict[str, str] | None, tree: DeviceTree | None = None
    ) -> list[tuple[str, str]]:
        """Codes, and what is wrong, of a root filesystem with these files."""
        found: list[tuple[str, str]] = []
        archive = self.archive({path: text.encode() for path, text in files.items()})
        checks = RootChecks(Filesystem.of_cpio(archive), "arm64", config, tree, lambda *_: None, self.stopped,
                            lambda code, what, why, remedy, key="": found.append((code, f"{what}; {remedy}")))  # fmt: skip
        checks.devices()
        checks.nodes("9.9")
        return found

    def archive(self, files: dict[str, bytes]) -> bytes:
        """A root filesystem with these files."""
        sink = io.BytesIO()
        texts = dict(files)
        folders = {path[:at] for path in files for at in range(1, len(path)) if path[at] == "/"}
        nodes = [Node(folder, "folder", 0o755) for folder in folders]
        nodes += [Node(path, "file", 0o755, size=len(data), content=path) for path, data in texts.items()]
        with tempfile.TemporaryDirectory() as folder:
            for number, (path, data) in enumerate(texts.items()):
                Path(folder, str(number)).write_bytes(data)
                texts[path] = str(Path(folder, str(number))).encode()
            write_cpio(RootTree.of(nodes), sink, lambda path: texts[path].decode())
        return sink.getvalue()

    def stopped(self, *words: str) -> None:
        raise AssertionError(words)

    def test_services_read_what_they_share_once(self) -> None:
        """Of 40 services, each with a program of its own, the C library is the same."""
        program = Path(shutil.which("true") or "").resolve().read_bytes()
        facts = elf_facts(io.BytesIO(program))
        assert facts is not None
        self.assertTrue(facts.needed)
        files = {f"/usr/bin/gauge-{number}": program for number in range(40)}
        files |= {f"/etc/services/gauge-{number}.service": f"run = /usr/bin/gauge-{number}\n".encode() for number in range(40)}
        files |= {f"/lib/{name}": next(Path("/lib").glob(f"*-linux-gnu*/{name}")).read_bytes() for name in facts.needed}
        files[facts.interpreter] = Path(facts.interpreter).read_bytes()
        root = Filesystem.of_cpio(self.archive(files))
        read: list[str] = []
        content = root.content
        told: list[str] = []

        def counted(path: str, most: int) -> bytes:
            read.append(path)
            return content(path, most)

        with mock.patch.object(root, "content", counted):
            checks = RootChecks(root, facts.arch, None, None, lambda what, text: told.append(text), self.stopped, self.stopped)
            checks.services()
        self.assertEqual(told, ["40 enabled; programs and users are there"])
        libraries = [path for path in read if path.startswith("/lib/")]
        self.assertEqual(sorted(libraries), sorted({f"/lib/{name}" for name in facts.needed}))
        self.assertEqual(read.count("/usr/bin/gauge-7"), 2)

    def test_as_many_scripts_as_the_kernel_follows(self) -> None:
        for count, fits in ((4, True), (5, True), (6, False)):
            files = {f"/bin/s{number}": f"#!/bin/s{number + 1}\n".encode() for number in range(count)}
            files[f"/bin/s{count}"] = Path(shutil.which("true") or "").resolve().read_bytes()
            facts = elf_facts(io.BytesIO(files[f"/bin/s{count}"]))
            assert facts is not None
            checks = RootChecks(Filesystem.of_cpio(self.archive(files)), facts.arch, None, None, lambda *_: None, self.stopped,
                                self.stopped)  # fmt: skip
            with mock.patch.object(RootChecks, "libraries", return_value=3):
                if fits:
                    self.assertEqual(checks.program("/bin/s0", "it", "BOOT-INIT"), 3)
                else:
                    self.assertEqual(checks.program("/bin/s1", "another", "BOOT-INIT"), 3)  # which says nothing of one more
                    chain = ", which runs ".join([*(f"/bin/s{number}" for number in range(5, 0, -1)), "it"])
                    with self.assertRaisesRegex(AssertionError, f"'{chain}, is a script too, for /bin/s6'"):
                        checks.program("/bin/s0", "it", "BOOT-INIT")

    def test_a_driver_that_nobody_loads(self) -> None:
        modular = {**SCREEN, f"{TOP}/modules.dep": DEP}
        told = self.told(modular, {"DRM": "m"})
        self.assertEqual([code for code, _ in told], ["DEVICE-DRIVER"])
        self.assertIn("/usr/lib/libdrm.so.2.4.0 is for screens, and nothing loads a driver for any (virtio_gpu)", told[0][1])
        self.assertIn("name it in /etc/modules", told[0][1])
        for name, more in (
            ("in init's list", {"/etc/modules": "virtio_gpu\n"}),
            ("in the list with a dash", {"/etc/modules": "# screen\nvirtio-gpu\n"}),
            ("in a folder of lists", {"/etc/modules-load.d/screen.conf": "virtio_gpu\n"}),
            ("by a device manager", {"/sbin/mdev": ""}),
            (
                "as a need of another one",
                {"/etc/modules": "other\n", f"{TOP}/modules.dep": f"kernel/other.ko: {DRIVER}\n{DEP}"},
            ),
            ("built in after all", {f"{TOP}/modules.builtin": f"{DRIVER}\n"}),
        ):
            with self.subTest(name):
                self.assertEqual(self.told({**modular, **more}, {"DRM": "m"}), [])
        # The core alone drives nothing, and neither does a part of a driver.
        for name in ("drm", "b"):
            self.assertEqual(len(self.told({**modular, "/etc/modules": f"{name}\n"}, {"DRM": "m"})), 1)

    def test_modules_that_are_not_in_the_image(self) -> None:
        told = self.told({**SCREEN, "/usr/lib/libasound.so.2": ""}, {"DRM": "m", "SND": "m"})
        self.assertEqual([code for code, _ in told], ["DEVICE-DRIVER"] * 2)
        self.assertIn("CONFIG_DRM is a module, and there are no modules in the image", told[0][1])

    def test_a_kernel_without(self) -> None:
        told = self.told({**SCREEN, "/usr/lib/libasound.so.2": "", "/usr/lib/libgpiod.so.2": ""}, {"SND": "y"})
        self.assertEqual(
            [what.partition(" is for")[0] for _, what in told], ["/usr/lib/libdrm.so.2.4.0", "/usr/lib/libgpiod.so.2"]
        )
        self.assertIn("yarrik kernel set DRM=y", told[0][1])
        self.assertEqual(self.told({**SCREEN, f"{TOP}/modules.dep": ""}, {"DRM": "y"})[0][1].partition(";")[0],
                         "/usr/lib/libdrm.so.2.4.0 is for screens, and the kernel has no driver for any")  # fmt: skip
        self.assertEqual(self.told(SCREEN, None), [])  # nothing is known of the kernel
        self.assertEqual(self.told({"/usr/bin/libdrm": ""}, {}), [])

    def test_a_driver_whose_device_is_not_in_the_device_tree(self) -> None:
        panel = 'panel { compatible = "harbour,panel-b", "harbour,panel"; };'
        aliases = "alias of:N*T*Charbour,panel panel_tide\nalias of:N*T*Charbour,panelC* panel_tide\nalias pci:v1* wired\n"
        files = {f"{TOP}/modules.alias": aliases, "/etc/modules": "panel-tide\nwired\nplain\n"}
        text = "and no node of the device tree has that as `compatible`"
        for name, source, words in (
            ("overlay missing", "", text),
            ("there", panel, None),
            ("another spelling", panel.replace('"harbour,panel"', '"harbour,pannel"'), text),
            (
                "disabled",
                panel.replace("panel {", 'panel { status = "disabled";'),
                "and the node /panel of the device tree is disabled",
            ),
            ("enabled in words", panel.replace("panel {", 'panel { status = "okay";'), None),
            (
                "below what is disabled",
                f'bus {{ status = "disabled"; {panel} }};',
                "and the node /bus/panel of the device tree is disabled",
            ),
            ("beside one that is disabled", f'bus {{ status = "disabled"; {panel} }}; {panel}', None),
            ("a name that only begins like a disabled one", f'pan {{ status = "disabled"; }}; {panel}', None),
        ):
            with self.subTest(name):
                tree = compile_source(Path("board.dts"), f"/dts-v1/; / {{ {source} }};")
                told = self.told(files, None, tree)
                self.assertEqual([code for code, _ in told], ["DEVICE-NODE"] if words else [])
                if words:
                    self.assertIn(f"init loads panel_tide for `harbour,panel`, {words}", told[0][1])
        # A driver that is also for another bus finds its devices without the device tree; so does one that nobody names.
        tree = compile_source(Path("board.dts"), "/dts-v1/; / { };")
        self.assertEqual(self.told({**files, f"{TOP}/modules.alias": f"{aliases}alias usb:v1* panel_tide\n"}, None, tree), [])
        self.assertEqual(self.told({**files, "/etc/modules": "wired\n"}, None, tree), [])
        self.assertEqual(self.told(files, None, None), [])

    def test_data_that_is_not_there(self) -> None:
        letters = {"/usr/lib/libfreetype.so.6": ""}
        told = self.told(letters, None)
        self.assertEqual(told[0][0], "DATA-MISSING")
        self.assertIn("/usr/lib/libfreetype.so.6 needs a font, and there is none in the image", told[0][1])
        self.assertIn("font-sans", told[0][1])
        self.assertEqual(len(self.told({**letters, "/usr/share/fonts/README.ttf.txt": ""}, None)), 1)
        for font in ("/usr/share/fonts/a.otf", "/opt/gauge/b.ttf", "/usr/share/fonts/c.pcf.gz"):
            self.assertEqual(self.told({**letters, font: ""}, None), [])
        told = self.told({"/usr/lib/libfontconfig.so.1": "", "/usr/lib/libxkbcommon.so.0": ""}, None)
        self.assertEqual([code for code, _ in told], ["DATA-MISSING"] * 2)


class ABuildSaysIt(WorkspaceTest):
    def test_with_the_way_out(self) -> None:
        shutil.rmtree(self.root / "s/recipes/kernel")
        self.recipe("kernel", "mkdir -p $DESTDIR/boot && cp bzImage $DESTDIR/boot", {"bzImage": headers()["header-x86"]})
        self.recipe("letters", "mkdir -p $DESTDIR/usr/lib && $CC -shared -o $DESTDIR/usr/lib/libfreetype.so.6 l.c", {"l.c": ""})
        self.write("w/s/images/i.toml", 'packages = ["init", "letters"]\n')
        said = " ".join(self.yarrik("build", at=self.root).split())
        self.assertIn("DATA-MISSING /usr/lib/libfreetype.so.6 needs a font", said)
        self.recipe("font", "mkdir -p $DESTDIR/usr/share/fonts && echo 1 > $DESTDIR/usr/share/fonts/a.otf")
        self.write("w/s/images/i.toml", 'packages = ["init", "letters", "font"]\n')
        self.assertNotIn("DATA-MISSING", self.yarrik("build", at=self.root))


if __name__ == "__main__":
    unittest.main()
