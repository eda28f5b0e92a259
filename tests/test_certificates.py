"""The bundle of trusted certificates and its links, against what OpenSSL finds."""

import hashlib
import re
import unittest
from pathlib import Path

from tests.support import FolderTest, WorkspaceTest
from yarrik.rootfs import RootTree
from yarrik.rootfs.certificates import BUNDLE, Certificates, CertificateUnfit, trusted_certificates
from yarrik.rootfs.tree import Node

SHARED = "/usr/share/ca-certificates"
#: Those of the distribution, which the package ca-certificates has.
REAL = Path(SHARED, "mozilla")
NOW = 1_790_000_000
SUBJECTS = (
    "/C=NO/O=Harbour Authority/CN=Gull Rock Root", "/O=  Blanks   and\tTABS  /CN=x", "/O=Großer Hafen/CN=Möwenfels",
    "/CN=a/OU=one+OU=two", "/CN=UPPER lower 123/emailAddress=Keeper@Pier.Example.ORG", "/serialNumber=0042/CN=b/DC=pier/DC=example",
)  # fmt: skip
BLOCK = re.compile(rb"-----BEGIN CERTIFICATE-----.*?-----END CERTIFICATE-----", re.DOTALL)


class TheBundle(FolderTest):
    def make(self, subject: str, name: str, days: int = 4000) -> Path:
        file = self.folder / name
        self.tool("openssl", "req", "-x509", "-newkey", "ec", "-pkeyopt", "ec_paramgen_curve:P-256", "-nodes", "-utf8", "-multivalue-rdn",
                  "-subj", subject, "-days", str(days), "-keyout", self.folder / "key.pem", "-out", file)  # fmt: skip
        return file

    def of(self, files: dict[str, Path | bytes], clock: int = NOW) -> Certificates:
        """What the files at these paths of an image make, at a time."""
        kept = {path: file if isinstance(file, bytes) else file.read_bytes() for path, file in files.items()}
        nodes = [Node(path, "file", 0o644, size=len(data), content=path, package="p") for path, data in kept.items()]
        return trusted_certificates(RootTree.of(nodes), kept.__getitem__, clock)

    def hash(self, file: Path) -> str:
        return self.tool("openssl", "x509", "-noout", "-subject_hash", "-in", file).strip()

    def test_links_have_the_names_that_openssl_looks_up(self) -> None:
        made = {f"{SHARED}/{number}.crt": self.make(subject, f"{number}.crt") for number, subject in enumerate(SUBJECTS)}
        found = self.of(dict(made))
        self.assertEqual({path.rpartition("/")[2] for path in found.links}, {f"{self.hash(file)}.0" for file in made.values()})
        for path, file in made.items():
            self.assertEqual(found.links[f"/etc/ssl/certs/{self.hash(file)}.0"], path)
        bundle = self.write("bundle", found.bundle)
        links = self.folder / "links"
        links.mkdir()
        for link, target in found.links.items():
            (links / link.rpartition("/")[2]).symlink_to(made[target])
        for file in made.values():
            self.assertIn("OK", self.tool("openssl", "verify", "-no-CAfile", "-no-CApath", "-CAfile", bundle, file))
            self.assertIn("OK", self.tool("openssl", "verify", "-no-CAfile", "-no-CApath", "-CApath", links, file))

    def test_two_of_one_name_are_both_found(self) -> None:
        one, two = self.make("/CN=Same", "a.crt"), self.make("/CN=same ", "b.crt")
        found = self.of({f"{SHARED}/a.crt": one, f"{SHARED}/b.crt": two})
        self.assertEqual(found.links, {f"/etc/ssl/certs/{self.hash(one)}.0": f"{SHARED}/a.crt",
                                       f"/etc/ssl/certs/{self.hash(one)}.1": f"{SHARED}/b.crt"})  # fmt: skip

    def test_all_of_the_distribution(self) -> None:
        files = {f"{SHARED}/mozilla/{file.name}": file for file in sorted(REAL.glob("*.crt"))}
        self.assertGreater(len(files), 100, "the package ca-certificates is missing: run `make test`, which installs it")
        found = self.of(dict(files))
        blocks = [b"".join(block.split()) for block in BLOCK.findall(found.bundle)]
        self.assertEqual(blocks, [b"".join(BLOCK.findall(file.read_bytes())[0].split()) for file in files.values()])
        for link, target in list(found.links.items())[::9]:
            self.assertEqual(link.rpartition("/")[2].partition(".")[0], self.hash(files[target]))
        self.assertEqual(self.of(dict(reversed(files.items()))), found)

    def test_what_counts(self) -> None:
        files: dict[str, Path | bytes] = {f"{SHARED}/x/{name}.crt": self.make(f"/CN={name}", f"{name}.crt") for name in "abc"}
        files["/usr/local/share/ca-certificates/own.crt"] = self.make("/CN=own", "own.crt")
        files["/etc/elsewhere.crt"] = self.make("/CN=elsewhere", "e.crt")
        files[f"{SHARED}/x/readme.txt"] = b"no certificate\n"
        self.assertEqual(len(self.of(files).links), 4)
        files["/etc/ca-certificates.conf"] = b"# chosen\nx/a.crt\n!x/b.crt\n\n"
        self.assertEqual(
            sorted(self.of(files).links.values()), ["/usr/local/share/ca-certificates/own.crt", f"{SHARED}/x/a.crt"]
        )
        self.assertEqual(self.of({"/etc/passwd": b"x"}), Certificates())

    def test_what_is_worth_knowing(self) -> None:
        one, late = self.make("/CN=one", "a.crt"), self.make("/CN=late", "l.crt", days=1)
        two = self.make("/CN=c", "c.crt").read_bytes() + self.make("/CN=d", "d.crt").read_bytes()
        files: dict[str, Path | bytes] = {f"{SHARED}/a.crt": one, f"{SHARED}/b.crt": one, f"{SHARED}/late.crt": late,
                                          f"{SHARED}/two.crt": two}  # fmt: skip
        made = int(late.stat().st_mtime)
        notes = [f"{SHARED}/b.crt is the certificate of {SHARED}/a.crt",
                 f"{SHARED}/two.crt has 2 certificates: they are in the bundle, and have no links"]  # fmt: skip
        found = self.of(files, made)
        self.assertEqual((found.notes, len(BLOCK.findall(found.bundle))), (notes, 4))
        later = [note for note in self.of(files, made + 2 * 86400).notes if note not in notes]
        self.assertEqual(len(later), 1)
        self.assertRegex(later[0], rf"\A{SHARED}/late.crt has expired on \d{{4}}-\d\d-\d\d\Z")

    def test_what_is_refused(self) -> None:
        good = self.make("/CN=a", "a.crt").read_bytes()
        for data, words in ((b"", "is empty"), (b"hello\n", "is no certificate"), (good[:300] + b"\n", "is no certificate"),
                            (good + (self.folder / "key.pem").read_bytes(), "has a private key in it"),
                            (good.replace(b"M", b"N", 1), "is no certificate"), (b"x" * (2 << 20), "larger than 1 MiB")):  # fmt: skip
            with self.assertRaisesRegex(CertificateUnfit, words):
                self.of({f"{SHARED}/bad.crt": data})


class AnImageHasCertificates(WorkspaceTest):
    def test_from_a_tree_that_is_laid_over(self) -> None:
        self.tool("openssl", "req", "-x509", "-newkey", "ec", "-pkeyopt", "ec_paramgen_curve:P-256", "-nodes", "-subj", "/CN=Pier",
                  "-keyout", self.folder / "key.pem", "-out", self.folder / "pier.crt")  # fmt: skip
        data = (self.folder / "pier.crt").read_bytes()
        self.write("w/s/images/over/usr/share/ca-certificates/harbour/pier.crt", data)
        self.write("w/s/images/i.toml", 'packages = ["init"]\n[[tree]]\nfrom = "over"\n')
        self.yarrik("build", at=self.root)
        self.assertEqual(self.content(BUNDLE).encode(), data)
        said = self.yarrik("inspect", "out/p/p.img", "/etc/ssl/certs", at=self.root)
        name = self.tool("openssl", "x509", "-noout", "-subject_hash", "-in", self.folder / "pier.crt").strip()
        self.assertRegex(said, rf"{name}\.0 → {SHARED}/harbour/pier.crt")
        self.write("w/s/images/over/usr/share/ca-certificates/harbour/twice.crt", data)
        twice = f"{SHARED}/harbour/twice.crt is the certificate of {SHARED}/harbour/pier.crt"
        self.assertIn(twice, self.yarrik("build", at=self.root))
        self.write("w/products/p.toml", 'board = "b"\nprofile = "p"\nimage = "i"\n[silence]\nCERTIFICATE-UNUSUAL = "a test"\n')
        self.assertNotIn(twice, self.yarrik("build", at=self.root))
        self.write("w/s/images/over/usr/share/ca-certificates/harbour/key.crt", data + (self.folder / "key.pem").read_bytes())
        said = self.yarrik("build", at=self.root, code=1)
        self.assertIn(f"CERTIFICATE-DAMAGED: {SHARED}/harbour/key.crt has a private key in it", said)
        # Somebody's own bundle stays as it is.
        self.write("w/s/images/over/etc/ssl/certs/ca-certificates.crt", "mine\n")
        self.yarrik("build", at=self.root)
        self.assertEqual(hashlib.sha256(self.content(BUNDLE).encode()).hexdigest(), hashlib.sha256(b"mine\n").hexdigest())


if __name__ == "__main__":
    unittest.main()
