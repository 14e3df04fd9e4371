"""The vault keeps whole downloads only, whatever happens while it works."""

import contextlib
import json
import os
import random
import shutil
import signal
import sqlite3
import subprocess
import sys
import time
import warnings
import zipfile
from unittest import mock

from tests.support import Scratch
from ultrum.errors import DataWarning, VaultError
from ultrum.file_access import process_mark
from ultrum.sources.download_and_limits import Download
from ultrum.vault.archive import pack, unpack
from ultrum.vault.journal_and_payload_files import Journal
from ultrum.vault.store import Vault

WRITER = """
import sys
from ultrum.sources.download_and_limits import Download
from ultrum.vault.store import Vault
vault, n = Vault(sys.argv[1]), 0
print("ready", flush=True)
while n < int(sys.argv[2]):
    vault.record("s", f"p{n % 7}", Download(f"{sys.argv[3]} {n} ".encode() * 20_000))
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
        first = vault.record("s", "p", Download(b"one", "text/csv", '"a"'))
        again = vault.record("s", "p", Download(b"one"))
        second = vault.record("s", "p", Download(b"two"))
        self.assertEqual(first, again)
        self.assertEqual([vault.payload(r) for r in vault.records()], [b"one", b"two"])
        self.assertEqual(vault.latest("s", "p"), second)
        self.assertIsNone(vault.latest("s", "q"))
        self.assertEqual(Vault(self.folder).latest("s", "p"), second)

    def test_damage_is_named(self):
        vault = Vault(self.folder)
        record = vault.record("s", "p", Download(b"payload"))
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
        record = vault.record("s", "p", Download(b"payload"))
        vault.record("s", "q", Download(b"other"))
        self.assertEqual(vault.verify(), [])
        vault.place_of(record.checksum).write_bytes(b"payl0ad")
        (fault,) = vault.verify()
        self.assertIn("s:p", fault)
        vault.record("s", "p", Download(b"payload"))
        self.assertEqual((vault.verify(), vault.payload(record)), ([], b"payload"))

    def test_as_it_stood_and_clocks_that_are_wrong(self):
        def at(instant):
            return mock.patch(
                "ultrum.vault.journal_and_payload_files.now", return_value=f"{instant}T00:00:00.000000Z"
            )

        vault = Vault(self.folder)
        first = vault.record("s", "p", Download(b"one"))
        with at("2001-01-01"):  # before Ultrum: the clock that went back is wrong
            second = vault.record("s", "p", Download(b"two"))
        self.assertGreater(second.retrieved, first.retrieved)
        self.assertEqual(vault.latest("s", "p", first.retrieved), first)
        self.assertEqual(vault.latest("s", "p"), second)
        self.assertIsNone(vault.latest("s", "p", "2001-06-01T00:00:00Z"))
        self.assertEqual(vault.vintages("s", "p"), [first, second])
        with at("2098-01-01"):
            ahead = vault.record("s", "p", Download(b"three"))
        later = vault.record("s", "p", Download(b"four"))  # what follows a clock that was ahead
        self.assertEqual(vault.vintages("s", "p")[2:], [ahead, later])
        self.assertEqual(vault.latest("s", "p"), later)
        self.assertEqual(vault.latest("s", "p", "2090-01-01"), later)
        with at("9999-12-31"), self.refused(VaultError, "clock", "9999"):
            vault.record("s", "p", Download(b"five"))

    def test_forgetting_keeps_what_others_need(self):
        vault = Vault(self.folder)
        gone = vault.record("s", "p", Download(b"shared"))
        kept = vault.record("s", "q", Download(b"shared"))
        alone = vault.record("s", "r", Download(b"alone"))
        self.assertEqual(vault.forget([gone, alone]), 5)
        self.assertEqual((vault.records(), vault.payload(kept)), ([kept], b"shared"))
        self.assertEqual(vault.size(), {"addresses": 1, "downloads": 1, "payloads": 1, "bytes": 6})

    def test_moved_to_another_machine_as_one_archive(self):
        vault, file = Vault(self.folder / "a"), self.folder / "v.zip"
        for body in (b"one", b"two", b"two"):
            vault.record("s", "p", Download(body, "text/csv", '"t"'))
        self.assertEqual(pack(vault, file), 2)
        other = Vault(self.folder / "b")
        self.assertEqual((unpack(other, file), unpack(other, file)), ((2, 0), (0, 2)))
        self.assertEqual([r.retrieved for r in other.records()], [r.retrieved for r in vault.records()])
        self.assertEqual([other.payload(r) for r in other.records()], [b"one", b"two"])
        self.assertEqual(len(other.confirmations(other.records()[1])), 1)
        with self.refused(VaultError, "exists already"):
            pack(vault, file)
        row = json.loads(zipfile.ZipFile(file).read("deliveries.json"))[0]
        one = f"payloads/{row['checksum']}"

        def changed(**facts):
            return {"deliveries.json": json.dumps([row, row | facts]), one: "one", f"payloads/{'0' * 64}": "two"}

        for name, members, words in (
            ("slip", {"../evil": "x"}, ["'../evil'", "not part of a packed vault"]),
            ("no list", {"deliveries.json": "x"}, ["damaged"]),
            ("deep", {"deliveries.json": "[" * 100_000}, ["damaged"]),
            ("other", {"deliveries.json": "{}"}, ["no list"]),
            ("number", changed(etag=3), ["not a text"]),
            ("never", changed(retrieved="never"), ["not an instant"]),
            ("later", changed(retrieved="2999-01-01T00:00:00.000000Z"), ["in the future"]),
            ("month", changed(retrieved="2025-13-01T00:00:00.000000Z"), ["not an instant"]),
            ("payload", changed(checksum="0" * 64), ["does not match", "nothing was imported"]),
        ):
            with zipfile.ZipFile(self.folder / "bad.zip", "w") as archive:
                for member, text in members.items():
                    archive.writestr(member, text)
            with self.subTest(name), Vault(self.folder / name) as empty, self.refused(VaultError, *words):
                unpack(empty, self.folder / "bad.zip")
            with Vault(self.folder / name) as empty:
                self.assertEqual(empty.size()["downloads"], 0, name)

    def test_what_is_imported_is_marked_until_its_source_serves_it(self):
        with Vault(self.folder / "a") as vault:
            for path in ("same", "other"):
                vault.record("s", path, Download(b"one", etag='"chosen"'))
            pack(vault, self.folder / "v.zip")
        vault = Vault(self.folder / "b")
        unpack(vault, self.folder / "v.zip")
        self.assertTrue(all(r.imported for r in vault.records()))
        self.assertFalse(vault.record("s", "same", Download(b"one", etag='"own"')).imported)
        self.assertEqual(vault.latest("s", "same").etag, '"own"')
        with self.assertWarnsRegex(DataWarning, "s:other.*differs from what the source serves"):
            self.assertFalse(vault.record("s", "other", Download(b"two")).imported)

    def test_a_vault_of_a_newer_version_is_left_alone(self):
        for file in ("catalogue.sqlite", "journal.jsonl"):
            Vault(self.folder / file).close()
            (self.folder / file / "journal.jsonl").unlink()
            with contextlib.closing(sqlite3.connect(self.folder / file / "catalogue.sqlite")) as catalogue:
                catalogue.execute("PRAGMA user_version = 99")
            if file == "journal.jsonl":
                self.file("journal.jsonl/journal.jsonl", '0123456789abcdef {"do":"vault","version":99}\n')
            with self.refused(VaultError, "version", "99"):
                Vault(self.folder / file)

    def test_killed_while_writing_it_holds_whole_downloads_only(self):
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
        vault.record("s", "after", Download(b"works"))
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
                vault.record("s", "p", Download(body, "text/csv", '"t"'))
            vault.record("s", "q", Download(b"three"))
            vault.forget([vault.record("s", "gone", Download(b"two"))])
            return [(r.facts, vault.confirmations(r)) for r in vault.records()]

    def held(self):
        with Vault(self.folder / "v") as vault:
            self.assertEqual(vault.verify(), [])
            return [(r.facts, vault.confirmations(r)) for r in vault.records()]

    def test_a_damaged_catalogue_is_made_anew_from_the_journal(self):
        before = self.filled()
        for damage in (b"no database at all" * 300, b"", None):
            for file in (self.folder / "v").glob("catalogue*"):
                file.unlink() if damage is None else file.write_bytes(damage)
            self.assertEqual(self.held(), before, damage and damage[:20])
        journal = self.folder / "v" / "journal.jsonl"
        with journal.open("ab") as file:
            file.write(b'0123456789abcdef {"n":9,"do":"rec')  # truncated by a process that died
        self.assertEqual(self.held(), before)
        journal.unlink()
        with self.assertWarnsRegex(DataWarning, "no journal"):
            self.assertEqual(self.held(), before)

    def test_damage_found_at_work_is_mended(self):
        before = self.filled()
        for verified in (False, True):
            (file,) = (self.folder / "v").glob("catalogue*.sqlite")
            body = bytearray(file.read_bytes())
            body[4096 + 100 : -20] = os.urandom(len(body) - 4096 - 120)
            with Vault(self.folder / "v") as vault:
                file.write_bytes(body)
                with self.assertWarnsRegex(DataWarning, "rebuilt: 3 downloads"):
                    if verified:
                        self.assertEqual(len(vault.verify()), 1)
                    self.assertEqual([(r.facts, vault.confirmations(r)) for r in vault.records()], before)
            self.assertEqual(self.held(), before)

    def test_flipped_bits_are_noticed_and_mended(self):
        before = self.filled()
        whole = self.folder / "v"
        files = [p for p in sorted(whole.rglob("*")) if p.is_file() and not p.name.startswith(".")]
        draw = random.Random(11)
        with warnings.catch_warnings():
            warnings.simplefilter("ignore", DataWarning)
            for _ in range(int(os.environ.get("ULTRUM_FLIPS", "60"))):
                file = draw.choice(files)
                name, work = file.relative_to(whole), self.folder / "flipped"
                shutil.copytree(whole, work)
                body = bytearray(file.read_bytes())
                at, bit = draw.randrange(len(body)), draw.randrange(8)
                body[at] ^= 1 << bit
                (work / name).write_bytes(body)
                with self.subTest(f"{name} {at} {bit}"), Vault(work) as vault:
                    faults = vault.verify()
                    if not name.name.startswith("catalogue"):
                        self.assertNotEqual(faults, [])
                    self.assertEqual([(r.facts, vault.confirmations(r)) for r in vault.records()], before)
                    left = vault.verify()
                    self.assertEqual(left, faults if "payloads" in name.parts else [])
                shutil.rmtree(work)

    def test_a_lost_tail_of_the_journal_is_noticed(self):
        self.filled()
        journal = self.folder / "v" / "journal.jsonl"
        with Vault(self.folder / "v") as vault:
            journal.write_bytes(journal.read_bytes()[:-1])
            self.assertIn("has lost everything after line", vault.verify()[0])
        self.assertEqual(len(self.held()), 3)

    def test_a_lost_journal_is_rebuilt_from_the_newest_catalogue(self):
        self.filled()
        place = self.folder / "v"
        with Vault(place) as vault, self.assertWarnsRegex(DataWarning, "rebuilt"):
            before = [(r.path, r.checksum, len(vault.confirmations(r))) for r in vault.records()]
            vault.rebuild()  # into a file of another name
        (place / "journal.jsonl").unlink()
        (place / "catalogue.99.sqlite").touch()  # one that a full disk left empty
        with self.assertWarnsRegex(DataWarning, "no journal"), Vault(place) as vault:
            after = [(r.path, r.checksum, len(vault.confirmations(r))) for r in vault.records()]
            self.assertEqual((after, vault.verify()), (before, []))
        (place / "journal.jsonl").unlink()
        for file in place.glob("catalogue*.sqlite"):
            file.write_bytes(b"no database at all" * 300)
        with self.refused(VaultError, "no journal", "damaged"):
            Vault(place)

    def test_processes_that_die_or_come_between(self):
        self.filled()
        place = self.folder / "v"
        one, two = Vault(place), Vault(place)
        gone = one.record("s", "late", Download(b"late"))
        with one._payloads.arriving(gone.checksum, b"late") as settle:
            two.forget([gone])
            settle()
        self.assertEqual(one.payload(one.record("s", "late", Download(b"late"))), b"late")
        died = RuntimeError("died")
        with (
            mock.patch("ultrum.vault.journal_and_payload_files.Journal.append", side_effect=died),
            contextlib.suppress(RuntimeError),
        ):
            one.record("s", "torn", Download(b"never recorded"))
        with (
            mock.patch("ultrum.vault.journal_and_payload_files.Payloads.remove", side_effect=died),
            contextlib.suppress(RuntimeError),
        ):
            two.forget(two.vintages("s", "late"))
        self.assertIsNone(one.latest("s", "late"))  # forgotten for good
        (place / "payloads" / f".arriving-{process_mark().rpartition(str(os.getpid()))[0]}999999-x").write_bytes(
            b"left"
        )
        (place / "payloads" / f".arriving-{process_mark()}x").write_bytes(b"mine")
        with (
            Vault(place) as third,
            self.assertWarnsRegex(DataWarning, r"2 payloads that no download.*\(18 bytes\)"),
        ):
            self.assertEqual(third.verify(), [])
        self.assertEqual(sum(p.stat().st_size for p in (place / "unexplained").iterdir()), 18)
        self.assertEqual([p.name.endswith(f"-{os.getpid()}-x") for p in (place / "payloads").glob(".*")], [True])
        self.assertEqual(len(list((place / "payloads").glob("*/*"))), 3)

    def test_a_journal_that_lost_its_end_is_restored_from_the_catalogue(self):
        place = self.folder / "v"
        with Vault(place) as vault:
            for n in range(6):
                vault.record("s", f"p{n}", Download(f"body {n}".encode()))
            before = [r.facts for r in vault.records()]
        journal = Journal(place).file
        lines = journal.read_bytes().splitlines(keepends=True)
        journal.write_bytes(b"".join(lines[:4]))
        with self.assertWarnsRegex(DataWarning, r"had lost 3 downloads.*s:p3, .*s:p4, .*s:p5, "):
            vault = Vault(place)
        self.assertEqual([r.facts for r in vault.records()], before)
        self.assertEqual(vault.verify(), [])
        self.assertEqual([vault.payload(r) for r in vault.records()][-1], b"body 5")
        vault.close()

    def test_only_payloads_are_touched_and_no_link_is_followed(self):
        place = self.folder / "v"
        with Vault(place) as vault:
            vault.record("s", "p", Download(b"body"))
            note = place / "payloads" / "ab" / "note.txt"
            note.parent.mkdir(exist_ok=True)
            note.write_text("mine")
            precious = self.file("precious.txt", "keep")
            (place / ".reserve").unlink(missing_ok=True)
            (place / ".reserve").symlink_to(precious)
            (place / "payloads" / "ab" / ("0" * 64)).symlink_to(precious)
            self.assertEqual(vault.verify(), [])
            vault.forget(vault.records())
        self.assertEqual((note.read_text(), precious.read_text()), ("mine", "keep"))

    def test_on_a_full_disk_forgetting_still_works(self):
        self.filled()
        vault, write = Vault(self.folder / "v"), Journal._write

        def full(journal, body, end, durable):
            if (self.folder / "v" / ".reserve").exists():
                raise OSError(28, "No space left on device")
            write(journal, body, end, durable)

        with mock.patch("ultrum.vault.journal_and_payload_files.Journal._write", full):
            with self.refused(VaultError, "No space left"):
                vault.record("s", "new", Download(b"new"))
            self.assertEqual(vault.forget(vault.vintages("s", "q")), 5)
        self.assertEqual((vault.verify(), len(self.held())), ([], 2))
        self.assertTrue((self.folder / "v" / ".reserve").exists())

    def test_a_vault_that_may_only_be_read(self):
        before = self.filled()
        code = f"""
import os, sys
from ultrum.errors import VaultError
from ultrum.sources.download_and_limits import Download
from ultrum.vault.store import Vault
if os.getuid() == 0:
    os.setgid(65534); os.setuid(65534)
vault = Vault({str(self.folder / "v")!r})
print([vault.payload(r) for r in vault.records()], vault.verify())
for change in (lambda: vault.record("s", "p", Download(b"new")), lambda: vault.confirm(vault.records()[0]),
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
            done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=False)
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
from ultrum.sources.download_and_limits import Download
from ultrum.vault.store import Vault
signal.signal(signal.SIGXFSZ, signal.SIG_IGN)
vault = Vault({str(self.folder / "v")!r})
for most in (200_000, 20_000, 3_000, 50):
    resource.setrlimit(resource.RLIMIT_FSIZE, (most, resource.RLIM_INFINITY))
    for size in (300_000, 30, 4_000):
        try: vault.record("full", f"{{most}}/{{size}}", Download(b"x" * size))
        except VaultError as error: print(size, str(error)[:60])
        else: print(size, "kept")
"""
        done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=False)
        self.assertEqual(done.stderr, "")
        lines = done.stdout.splitlines()
        self.assertIn("could not be stored", lines[0])
        self.assertFalse(lines[-3].endswith(" kept"))
        kept = sum(line.endswith(" kept") for line in lines)
        after = self.held()
        self.assertEqual(after[: len(before)], before)
        self.assertEqual(len(after), len(before) + kept)

    def test_ten_processes_at_once(self):
        seconds = float(os.environ.get("ULTRUM_VAULT_SECONDS", "3"))
        ten = [
            subprocess.Popen([sys.executable, "-c", MINGLER, str(self.folder / "v"), str(k), str(seconds)],
                             stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)
            for k in range(10)
        ]  # fmt: skip
        said = [process.communicate() for process in ten]
        self.assertEqual([err for _, err in said], [""] * 10)
        written = [line.split() for out, _ in said for line in out.splitlines()]
        self.assertGreater(len(written), 30)
        with Vault(self.folder / "v") as vault:
            self.assertEqual(vault.verify(), [])
            kept = {(r.path, r.checksum) for r in vault.records()}
        self.assertEqual({(path, checksum) for path, checksum in written} - kept, set())
        for file in (self.folder / "v").glob("catalogue*"):
            file.unlink()
        with Vault(self.folder / "v") as again:
            self.assertEqual({(r.path, r.checksum) for r in again.records()}, kept)


MINGLER = """
import hashlib, random, sys, time
from ultrum.sources.download_and_limits import Download
from ultrum.vault.store import Vault
place, word, seconds = sys.argv[1], sys.argv[2], float(sys.argv[3])
end, n, draw = time.monotonic() + seconds, 0, random.Random(int(word))
vault = Vault(place)
while time.monotonic() < end:
    body = f"{draw.randrange(50)} {n if draw.random() < 0.5 else word} ".encode() * draw.randrange(1, 4000)
    made = vault.record("s", f"p{draw.randrange(6)}", Download(body))
    assert vault.payload(made) == body, "another payload is served"
    newest = vault.latest("s", made.path)
    assert newest.retrieved >= made.retrieved, "an older one is served"
    print(made.path, made.checksum, flush=True)
    if draw.random() < 0.2:
        vault.forget([vault.record("s", "passing", Download(body)), *vault.vintages("s", "passing")])
    if draw.random() < 0.05:
        vault.close()
        vault = Vault(place)
    n += 1
"""
