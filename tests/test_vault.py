"""The vault keeps whole deliveries only, whatever happens while it works."""

import signal
import subprocess
import sys
import time

from tests.support import Scratch
from ultrum.errors import VaultError
from ultrum.sources.delivery import Delivery
from ultrum.vault import Vault

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
