"""The vault keeps whole deliveries only, whatever happens while it works."""

import os
import signal
import sqlite3
import subprocess
import sys
import time
import warnings
import zipfile
from unittest import mock

from tests.support import ROOT, Scratch
from ultrum.errors import DataWarning, VaultError
from ultrum.sources.delivery import Delivery
from ultrum.vault import Vault, pack, unpack

WRITER = """
import sys
from ultrum.sources.delivery import Delivery
from ultrum.vault import Vault
vault, n = Vault(sys.argv[1]), 0
print("ready", flush=True)
while n < int(sys.argv[2]):
    vault.record("s", f"p{n % 7}", Delivery(f"{sys.argv[3]} {n} ".encode() * 20_000))
    n += 1
"""


def writer(folder, count, word):
    process = subprocess.Popen(
        [sys.executable, "-c", WRITER, str(folder), str(count), word], stdout=subprocess.PIPE
    )
    process.stdout.readline()
    return process


class Keeping(Scratch):
    def test_vintages_and_confirmations(self):
        vault = Vault(self.folder)
        first = vault.record("s", "p", Delivery(b"one", "text/csv", '"a"'))
        again = vault.record("s", "p", Delivery(b"one"))
        second = vault.record("s", "p", Delivery(b"two"))
        self.assertEqual(first, again)
        self.assertEqual([vault.payload(r) for r in vault.records()], [b"one", b"two"])
        self.assertEqual(vault.latest("s", "p"), second)
        self.assertIsNone(vault.latest("s", "q"))
        self.assertEqual(Vault(self.folder).latest("s", "p"), second)

    def test_damage_is_named(self):
        vault = Vault(self.folder)
        record = vault.record("s", "p", Delivery(b"payload"))
        place = next((self.folder / "payloads").rglob(record.checksum))
        place.write_bytes(b"payl0ad")
        with self.refused(VaultError, "s:p", "damaged"):
            vault.payload(record)
        place.unlink()
        with self.refused(VaultError, "s:p", "Fetch it again"):
            vault.payload(record)
        with self.refused(VaultError, "cannot be used"):
            Vault(self.file("a-file", "x"))

    def test_a_damaged_payload_is_named_by_verify_and_mended_by_fetching(self):
        vault = Vault(self.folder)
        record = vault.record("s", "p", Delivery(b"payload"))
        vault.record("s", "q", Delivery(b"other"))
        self.assertEqual(vault.verify(), [])
        vault.place_of(record.checksum).write_bytes(b"payl0ad")
        (fault,) = vault.verify()
        self.assertIn("s:p", fault)
        vault.record("s", "p", Delivery(b"payload"))
        self.assertEqual((vault.verify(), vault.payload(record)), ([], b"payload"))

    def test_as_it_stood_and_the_clock_going_back(self):
        vault = Vault(self.folder)
        first = vault.record("s", "p", Delivery(b"one"))
        with mock.patch("ultrum.vault.store._now", return_value="2001-01-01T00:00:00.000000Z"):
            second = vault.record("s", "p", Delivery(b"two"))
        self.assertGreater(second.retrieved, first.retrieved)
        self.assertEqual(vault.latest("s", "p", first.retrieved), first)
        self.assertEqual(vault.latest("s", "p"), second)
        self.assertIsNone(vault.latest("s", "p", "2001-06-01T00:00:00Z"))
        self.assertEqual(
            [r.checksum for r in vault.vintages("s", "p")], [first.checksum, second.checksum]
        )

    def test_forgetting_keeps_what_others_need(self):
        vault = Vault(self.folder)
        gone = vault.record("s", "p", Delivery(b"shared"))
        kept = vault.record("s", "q", Delivery(b"shared"))
        alone = vault.record("s", "r", Delivery(b"alone"))
        self.assertEqual(vault.forget([gone, alone]), 5)
        self.assertEqual((vault.records(), vault.payload(kept)), ([kept], b"shared"))
        self.assertEqual(vault.size(), {"addresses": 1, "deliveries": 1, "payloads": 1, "bytes": 6})

    def test_moved_to_another_machine_as_one_archive(self):
        vault, file = Vault(self.folder / "a"), self.folder / "v.zip"
        for body in (b"one", b"two", b"two"):
            vault.record("s", "p", Delivery(body, "text/csv", '"t"'))
        self.assertEqual(pack(vault, file), 2)
        other = Vault(self.folder / "b")
        self.assertEqual((unpack(other, file), unpack(other, file)), ((2, 0), (0, 2)))
        self.assertEqual(
            [r.retrieved for r in other.records()], [r.retrieved for r in vault.records()]
        )
        self.assertEqual([other.payload(r) for r in other.records()], [b"one", b"two"])
        self.assertEqual(len(other.confirmations(other.records()[1])), 1)
        with self.refused(VaultError, "there already"):
            pack(vault, file)
        for name, words in (
            ("../evil", ["'../evil'", "no packed vault"]),
            ("deliveries.json", ["damaged"]),
        ):
            with zipfile.ZipFile(self.folder / "bad.zip", "w") as archive:
                archive.writestr(name, "x")
            with self.subTest(name), self.refused(VaultError, *words):
                unpack(other, self.folder / "bad.zip")

    def test_a_vault_of_a_newer_version_is_left_alone(self):
        Vault(self.folder).close()
        with sqlite3.connect(self.folder / "catalogue.sqlite") as catalogue:
            catalogue.execute("PRAGMA user_version = 99")
        with self.refused(VaultError, "newer Ultrum", "99"):
            Vault(self.folder)

    def test_killed_while_writing_it_holds_whole_deliveries_only(self):
        for attempt in range(8):
            process = writer(self.folder, 10_000, f"try{attempt}")
            time.sleep(0.03 + 0.035 * attempt)
            process.send_signal(signal.SIGKILL)
            process.wait()
            process.stdout.close()
        vault = Vault(self.folder)
        records = vault.records()
        self.assertGreater(len(records), 8)
        for record in records:
            self.assertEqual(len(vault.payload(record)), record.size)
        vault.record("s", "after", Delivery(b"works"))
        self.assertEqual(vault.payload(vault.latest("s", "after")), b"works")

    def test_two_processes_at_once_lose_nothing(self):
        processes = [writer(self.folder, 40, word) for word in ("left", "right")]
        for process in processes:
            self.assertEqual(process.wait(), 0)
            process.stdout.close()
        vault = Vault(self.folder)
        bodies = [vault.payload(r).split()[0] for r in vault.records()]
        self.assertEqual((bodies.count(b"left"), bodies.count(b"right")), (40, 40))


class HostileWorld(Scratch):
    """What disks, clocks, other versions and other processes do to it."""

    def filled(self):
        with Vault(self.folder / "v") as vault:
            for body in (b"one", b"two", b"two"):
                vault.record("s", "p", Delivery(body, "text/csv", '"t"'))
            vault.record("s", "q", Delivery(b"three"))
            vault.forget([vault.record("s", "gone", Delivery(b"two"))])
            return [(r.facts, vault.confirmations(r)) for r in vault.records()]

    def held(self):
        with Vault(self.folder / "v") as vault:
            self.assertEqual(vault.verify(), [])
            return [(r.facts, vault.confirmations(r)) for r in vault.records()]

    def test_a_damaged_catalogue_is_made_anew_from_receipts(self):
        before = self.filled()
        file = self.folder / "v" / "catalogue.sqlite"
        whole = file.read_bytes()
        for damage in (b"no database at all" * 300, b"", whole[:100], None):
            file.unlink() if damage is None else file.write_bytes(damage)
            with warnings.catch_warnings(record=True) as said:
                warnings.simplefilter("always")
                self.assertEqual(self.held(), before, damage and damage[:20])
            if damage and damage[:2] == b"no":
                self.assertIn("made anew: 3 deliveries", str(said[0].message))
        self.assertEqual(len(list((self.folder / "v").glob("catalogue.damaged-*.sqlite"))), 2)
        receipt = next((self.folder / "v" / "receipts").rglob("*.jsonl"))
        receipt.write_text(
            receipt.read_text() + '{"source": "s", "pa'
        )  # cut short by a process that died
        file.unlink()
        self.assertEqual(self.held(), before)

    def test_damage_found_at_work_is_mended_by_verify(self):
        before = self.filled()
        file = self.folder / "v" / "catalogue.sqlite"
        body = bytearray(file.read_bytes())
        body[4096 + 100 : -20] = os.urandom(len(body) - 4096 - 120)
        file.write_bytes(body)
        with Vault(self.folder / "v") as vault:
            with self.refused(VaultError, "is damaged", "vault verify"):
                vault.records()
            with self.assertWarns(DataWarning):
                (said,) = vault.verify()
            self.assertIn("made anew, with 3 deliveries", said)
        self.assertEqual(self.held(), before)

    def test_a_vault_of_the_first_version_is_taken_over(self):
        with zipfile.ZipFile(ROOT / "tests" / "data" / "vault_of_version_1.zip") as archive:
            archive.extractall(self.folder / "v")
        before = self.held()
        known = [("factors.txt", '"a1"', 1), ("factors.txt", '"a2"', 0), ("berths.csv", "", 0)]
        self.assertEqual([(f["path"], f["etag"], len(c)) for f, c in before], known)
        (self.folder / "v" / "catalogue.sqlite").unlink()
        self.assertEqual(self.held(), before)

    def test_a_vault_that_may_only_be_read(self):
        before = self.filled()
        code = f"""
import os, sys
from ultrum.errors import VaultError
from ultrum.sources.delivery import Delivery
from ultrum.vault import Vault
if os.getuid() == 0:
    os.setgid(65534); os.setuid(65534)
vault = Vault({str(self.folder / "v")!r})
print([vault.payload(r) for r in vault.records()], vault.verify())
for change in (lambda: vault.record("s", "p", Delivery(b"new")), lambda: vault.confirm(vault.records()[0]),
               lambda: vault.forget(vault.records())):
    try: change()
    except VaultError as error: print(error)
    else: print("changed")
"""
        self.folder.chmod(0o755)
        places = [self.folder / "v", *(self.folder / "v").rglob("*")]
        for place in places:
            place.chmod(0o555 if place.is_dir() else 0o444)
        try:
            done = subprocess.run(
                [sys.executable, "-c", code], capture_output=True, text=True, check=False
            )
        finally:
            for place in places:
                place.chmod(0o755)
        said = done.stdout.splitlines()
        self.assertEqual(said[0], "[b'one', b'two', b'three'] []", done.stderr)
        self.assertEqual(["read" in line for line in said[1:]], [True] * 3, said)
        self.assertEqual(self.held(), before)

    def test_a_full_disk_loses_nothing(self):
        before = self.filled()
        code = f"""
import resource, signal, sys
from ultrum.errors import VaultError
from ultrum.sources.delivery import Delivery
from ultrum.vault import Vault
signal.signal(signal.SIGXFSZ, signal.SIG_IGN)
vault = Vault({str(self.folder / "v")!r})
for most in (200_000, 20_000, 3_000, 50):
    resource.setrlimit(resource.RLIMIT_FSIZE, (most, resource.RLIM_INFINITY))
    for size in (300_000, 30, 4_000):
        try: vault.record("full", f"{{most}}/{{size}}", Delivery(b"x" * size))
        except VaultError as error: print(size, str(error)[:60])
        else: print(size, "kept")
"""
        done = subprocess.run(
            [sys.executable, "-c", code], capture_output=True, text=True, check=False
        )
        self.assertEqual(done.stderr, "")
        lines = done.stdout.splitlines()
        self.assertIn("could not be kept", lines[0])
        self.assertFalse(lines[-3].endswith(" kept"))
        kept = sum(line.endswith(" kept") for line in lines)
        after = self.held()
        self.assertEqual(after[: len(before)], before)
        self.assertEqual(len(after), len(before) + kept)

    def test_ten_processes_at_once(self):
        seconds = float(
            os.environ.get("ULTRUM_VAULT_SECONDS", "60" if os.environ.get("CI") else "5")
        )
        ten = [
            subprocess.Popen([sys.executable, "-c", MINGLER, str(self.folder / "v"), str(k), str(seconds)],
                             stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)
            for k in range(10)
        ]  # fmt: skip
        said = [process.communicate() for process in ten]
        self.assertEqual([err for _, err in said], [""] * 10)
        written = [line.split() for out, _ in said for line in out.splitlines()]
        self.assertGreater(len(written), 50)
        with Vault(self.folder / "v") as vault:
            self.assertEqual(vault.verify(), [])
            kept = {(r.path, r.checksum) for r in vault.records()}
        self.assertEqual({(path, checksum) for path, checksum in written} - kept, set())
        (self.folder / "v" / "catalogue.sqlite").unlink()
        with Vault(self.folder / "v") as anew:
            self.assertEqual({(r.path, r.checksum) for r in anew.records()}, kept)


MINGLER = """
import hashlib, random, sys, time
from ultrum.sources.delivery import Delivery
from ultrum.vault import Vault
place, word, seconds = sys.argv[1], sys.argv[2], float(sys.argv[3])
end, n, draw = time.monotonic() + seconds, 0, random.Random(int(word))
vault = Vault(place)
while time.monotonic() < end:
    body = f"{draw.randrange(50)} {n if draw.random() < 0.5 else word} ".encode() * draw.randrange(1, 4000)
    made = vault.record("s", f"p{draw.randrange(6)}", Delivery(body))
    assert vault.payload(made) == body, "another payload is served"
    newest = vault.latest("s", made.path)
    assert newest.retrieved >= made.retrieved, "an older one is served"
    print(made.path, made.checksum, flush=True)
    if draw.random() < 0.05:
        vault.close()
        vault = Vault(place)
    n += 1
"""
