"""The vault keeps whole deliveries only, whatever happens while it works."""

import signal
import sqlite3
import subprocess
import sys
import time
import zipfile
from unittest import mock

from tests.support import Scratch
from ultrum.errors import VaultError
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
