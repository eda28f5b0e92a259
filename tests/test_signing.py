"""Signatures over a product's checksums: judged by `ssh-keygen -Y verify`, and made by `ssh-keygen -Y sign`."""

import base64
import hashlib
import json
import os
import shutil
import subprocess
import unittest
from pathlib import Path

from hypothesis import given
from hypothesis import strategies as some

from tests.support import FolderTest, WorkspaceTest
from tests.test_flash import AnImage
from yarrik.errors import Damaged, Unfit, YarrikError
from yarrik.manifest import parse_image_key, read_image_keys, sign, signer_of

NONE = lambda: ""  # noqa: E731


class Keys(FolderTest):
    def key(self, name: str = "key", passphrase: str = "", kind: str = "ed25519") -> Path:
        file = self.folder / name
        subprocess.run(["ssh-keygen", "-q", "-t", kind, "-N", passphrase, "-C", f"{name} of harbour", "-f", file], check=True)
        return file

    def verified(self, data: bytes, signature: bytes, public: Path, use: str = "file") -> bool:
        """Whether OpenSSH's own program takes it."""
        self.write("allowed", f"pier {public.read_text()}")
        self.write("signature", signature)
        words = [
            "ssh-keygen",
            "-Y",
            "verify",
            "-f",
            self.folder / "allowed",
            "-I",
            "pier",
            "-n",
            use,
            "-s",
            self.folder / "signature",
        ]
        return subprocess.run(words, input=data, capture_output=True, check=False).returncode == 0

    def test_what_we_sign_openssh_takes(self) -> None:
        for data in (b"", b"sums\n", os.urandom(100_000)):
            file = self.key(f"k{len(data)}")
            signature, public = sign(data, file, NONE)
            self.assertTrue(self.verified(data, signature, file.with_suffix(".pub")))
            self.assertFalse(self.verified(data + b"x", signature, file.with_suffix(".pub")))
            self.assertEqual(signer_of(data, signature), public)
            said = subprocess.run(["ssh-keygen", "-l", "-f", f"{file}.pub"], capture_output=True, text=True, check=True).stdout
            self.assertIn(public.fingerprint, said)
            self.assertEqual(sign(data, file, NONE)[0], signature)  # the same each time

    def test_what_openssh_signs_we_take(self) -> None:
        file = self.key()
        data = self.write("data", os.urandom(5000))
        subprocess.run(["ssh-keygen", "-q", "-Y", "sign", "-f", file, "-n", "file", data], check=True, capture_output=True)
        signature = Path(f"{data}.sig").read_bytes()
        self.assertEqual(signer_of(data.read_bytes(), signature).raw, read_image_keys(file.with_suffix(".pub"))[0].raw)
        with self.assertRaisesRegex(Damaged, "over something else"):
            signer_of(data.read_bytes() + b" ", signature)

    def test_signatures_that_are_for_something_else(self) -> None:
        data = self.write("data", b"text")
        file = self.key()
        for words, why in ((["-n", "git"], "for another use: git"), (["-n", "file", "-O", "hashalg=sha256"], "another digest")):
            Path(f"{data}.sig").unlink(missing_ok=True)
            subprocess.run(["ssh-keygen", "-q", "-Y", "sign", "-f", file, *words, data], check=True, capture_output=True)
            with self.assertRaisesRegex(Damaged, why):
                signer_of(b"text", Path(f"{data}.sig").read_bytes())
        Path(f"{data}.sig").unlink()
        other = self.key("other", kind="ecdsa")
        subprocess.run(["ssh-keygen", "-q", "-Y", "sign", "-f", other, "-n", "file", data], check=True, capture_output=True)
        with self.assertRaisesRegex(Damaged, "only ssh-ed25519"):
            signer_of(b"text", Path(f"{data}.sig").read_bytes())

    def test_keys_with_a_passphrase(self) -> None:
        file = self.key(passphrase="low water")
        self.assertTrue(self.verified(b"x", sign(b"x", file, lambda: "low water")[0], file.with_suffix(".pub")))
        with self.assertRaises(YarrikError) as caught:
            sign(b"x", file, lambda: "high water")
        self.assertEqual(caught.exception.troubles[0].code, "SIGN-KEY")

    def test_keys_that_are_none(self) -> None:
        file = self.key()
        for bad in (file.with_suffix(".pub"), self.key("rsa", kind="rsa"), self.write("text", "text"), self.folder / "none",
                    self.folder, Path("/dev/zero")):  # fmt: skip
            with self.assertRaises(YarrikError) as caught:
                sign(b"x", bad, NONE)
            self.assertEqual(caught.exception.troubles[0].code, "SIGN-KEY", bad)
        line = file.with_suffix(".pub").read_text().strip()
        for text in ("", "ssh-ed25519", line[:40], line.replace("AAAA", "AAAB"), file.read_text(), "ssh-rsa AAAAB3NzaC1yc2E= x",
                     "ssh-ed25519 " + base64.b64encode(b"\0\0\0\x0bssh-ed25519\0\0\0\x1f" + bytes(31)).decode()):  # fmt: skip
            with self.assertRaises(Unfit, msg=text):
                parse_image_key(text)
        self.assertEqual(parse_image_key(line.replace("of harbour", "of\x1b]0;harbour")).comment, "key of?]0;harbour")

    @given(some.data())
    def test_changed_signatures_are_refused(self, data: some.DataObject) -> None:
        signature, public = self.made
        blob = bytearray(base64.b64decode("".join(signature.decode().split("\n")[1:-2])))
        for _ in range(data.draw(some.integers(1, 3))):
            blob[data.draw(some.integers(0, len(blob) - 1))] ^= data.draw(some.integers(1, 255))
        cut = data.draw(some.integers(0, len(blob))) if data.draw(some.booleans()) else len(blob)
        text = (
            "-----BEGIN SSH SIGNATURE-----\n" + base64.b64encode(bytes(blob[:cut])).decode() + "\n-----END SSH SIGNATURE-----\n"
        )
        try:
            found = signer_of(b"sums", text.encode())
        except Damaged:
            return
        # What is reserved is not looked at, and nothing else may change.
        self.assertEqual(found, public)
        self.assertEqual(base64.b64decode("".join(signature.decode().split("\n")[1:-2])), bytes(blob[:cut]))

    @classmethod
    def setUpClass(cls) -> None:
        import tempfile

        with tempfile.TemporaryDirectory() as folder:
            subprocess.run(["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", f"{folder}/k"], check=True)
            cls.made = sign(b"sums", Path(folder, "k"), NONE)


class OnlyWhatIsSigned(AnImage):
    def setUp(self) -> None:
        super().setUp()
        for name in ("release", "other"):
            subprocess.run(
                ["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-C", f"{name}s", "-f", self.folder / name], check=True
            )
        self.card()
        self.sums()

    def signed(self, *words: str, code: int = 0) -> str:
        return self.yarrik("sign", self.image.parent, *words, code=code)

    def test_one_key_and_no_other(self) -> None:
        self.assertIn("SIGN-MISSING", self.signed(code=1))
        self.assertIn("SIGN-MISSING", self.flash("--signed-by", "release.pub", code=1))
        text = self.signed("--key", "release")
        self.assertIn("signed by SHA256:", text)
        self.assertIn("signed by", self.signed())
        self.assertIn("can be pulled out", self.flash("--signed-by", "release.pub"))
        text = self.flash("--signed-by", "other.pub", code=1)
        self.assertIn("signed by a key that is not trusted", text)
        self.assertIn("trusted are others (SHA256:", text)
        both = self.write("both.pub", (self.folder / "other.pub").read_text() + (self.folder / "release.pub").read_text())
        self.flash("--signed-by", both)
        report = json.loads(self.flash("--signed-by", both, "--json"))["devices"][0]
        self.assertRegex(report["signed-by"], "^SHA256:.{43}$")
        self.assertIn("error SIGN-KEY", self.flash("--signed-by", "release", code=2))

    def test_a_signature_that_does_not_fit_is_refused_even_when_none_is_asked_for(self) -> None:
        self.signed("--key", "release")
        sums = self.image.parent / "SHA256SUMS"
        before = sums.read_bytes()
        sums.write_bytes(before + b"\n")
        self.assertIn("error SIGN-WRONG", self.flash(code=1))
        self.assertIn("error SIGN-WRONG", self.signed(code=1))
        sums.write_bytes(before)
        self.flash()
        # The signature stays while the image becomes another one.
        data = bytearray(self.image.read_bytes())
        data[5_000_000] ^= 1
        self.image.write_bytes(data)
        self.assertIn("is not as it was built", self.flash("--signed-by", "release.pub", code=1))
        # Or its line is gone from the list: then it was held against nothing.
        shutil.copy(self.image, self.folder / "own.img")
        (self.folder / "own.img").rename(self.image.with_name("own.img"))
        text = self.flash("--signed-by", "release.pub", image=self.image.with_name("own.img"), code=1)
        self.assertIn("own.img is not signed", text)
        self.assertIn("error OUT-DAMAGED", self.signed("--key", "release", code=1))  # nothing is signed that does not fit

    def test_the_settings_ask_for_it(self) -> None:
        self.environment["YARRIK_SETTINGS"] = str(self.folder / "settings.toml")
        key = (self.folder / "release.pub").read_text().strip()
        self.yarrik("settings", "set", f"image-keys={key}")
        text = self.flash(code=1)
        self.assertIn("gauge.img is not signed", text)
        self.assertIn("--unsigned", text)
        self.flash("--unsigned")
        self.signed("--key", "release")
        self.flash()
        self.write("settings.toml", 'image-keys = ["ssh-ed25519 AAAA"]\n')
        self.assertIn("a key of the settings is none", self.flash(code=2))

    def test_a_workspace_does_not_widen_what_its_user_trusts(self) -> None:
        own, strange = ((self.folder / f"{name}.pub").read_text().strip() for name in ("release", "other"))
        self.environment["YARRIK_SETTINGS"] = str(self.folder / "settings.toml")
        self.write("yarrik.toml", '[workspace]\nname = "w"\n')
        self.write("yarrik.local.toml", f'[settings]\nimage-keys = ["{strange}"]\n')
        self.signed("--key", "other")
        self.flash()  # nobody but the workspace asks for a key
        self.write("settings.toml", f'image-keys = ["{own}"]\n')
        self.assertIn("signed by a key that is not trusted", self.flash(code=1))

    def test_changes_take_the_signature_away(self) -> None:
        from yarrik.boot.change import _checksums

        self.signed("--key", "release")
        signature = self.image.parent / "SHA256SUMS.sig"
        self.assertTrue(signature.is_file())
        self.assertEqual(_checksums(self.image, []), ["SHA256SUMS"])
        self.assertFalse(signature.exists())
        self.assertIn(hashlib.sha256(self.image.read_bytes()).hexdigest(), (self.image.parent / "SHA256SUMS").read_text())


class AfterABuild(WorkspaceTest):
    def test_a_signature_stays_with_what_it_is_over(self) -> None:
        subprocess.run(["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", self.folder / "key"], check=True)
        self.yarrik("build", at=self.root)
        self.yarrik("sign", "p", "--key", self.folder / "key", at=self.root)
        self.yarrik("build", at=self.root)
        self.assertIn("signed by", self.yarrik("sign", "p", at=self.root))
        source = self.root / "s/recipes/init/src/init.c"
        source.write_text(source.read_text().replace("return 0", "return 1"))
        self.yarrik("build", at=self.root)
        self.assertIn("error SIGN-MISSING: `p` is not signed", self.yarrik("sign", "p", at=self.root, code=1))
        self.assertIn("has no checksums to be signed", self.yarrik("sign", "q", at=self.root, code=2))


if __name__ == "__main__":
    unittest.main()
