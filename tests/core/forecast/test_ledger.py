"""The ledger of finished work: known without opening a file, torn or shared without loss."""

import os
from dataclasses import replace
from functools import partial
from pathlib import Path
from unittest import mock

from rumbrel.core.conversion import Outcome, Watch, carry_out, landed_outcome, note_landing
from rumbrel.core.conversion.landing import Landings
from rumbrel.core.conversion.pool import _lost, _work
from rumbrel.core.crew import Death
from rumbrel.core.errors import Cancelled, DecodeError
from rumbrel.core.files import file_digest
from rumbrel.core.forecast import (
    Action,
    Entry,
    ResultLedger,
    WarningCode,
    WhenPresent,
    forecast_batch,
    gather_sources,
)
from rumbrel.core.targets import find_target
from tests.core.forecast.case import PlanCase
from tests.signals import write_sound


class LedgerTests(PlanCase):
    def _run(self, ledger: ResultLedger, **more: object) -> list[str]:
        plan = self.plan("in", ledger=ledger, **more)
        landing = partial(note_landing, ledgers={plan.steps[0].target.slug: ledger.path})
        for step in plan.steps:
            carry_out(step, Watch(landing=landing))
        return [f"{step.action}: {step.reason}" for step in plan.steps]

    def test_finished_work_is_recognised_without_opening_a_file(self) -> None:
        write_sound(self.folder / "in" / "a.wav", 9_000)
        ledger = ResultLedger(self.folder / "ledger" / "x.jsonl")
        self._run(ledger)
        again = ResultLedger(self.folder / "ledger" / "x.jsonl")

        def never(path: Path):  # type: ignore[no-untyped-def]
            raise AssertionError(f"{path} was opened")

        sources = gather_sources([self.folder / "in"])
        plan = forecast_batch(sources, find_target("archive-flac"), self.out, inspect=never, ledger=again)
        self.assertEqual([step.reason for step in plan.steps], ["up to date"])

    def test_where_only_the_change_time_is_another_the_bytes_decide_and_are_read_once(self) -> None:
        source = write_sound(self.folder / "in" / "a.wav", 9_000)
        path = self.folder / "l.jsonl"
        self._run(ResultLedger(path))
        source.chmod(0o600)
        with mock.patch("rumbrel.core.forecast.ledger.file_digest", side_effect=file_digest) as reads:
            for _ in range(2):
                self.assertEqual(self.plan("in", ledger=ResultLedger(path)).steps[0].reason, "up to date")
        self.assertEqual(reads.call_count, 1)
        source.chmod(0o640)
        refused = mock.patch("rumbrel.core.forecast.ledger.file_digest", side_effect=DecodeError("cannot be read"))
        with refused:
            step = self.plan("in", ledger=ResultLedger(path)).steps[0]
        self.assertEqual((step.action, step.warnings[0].code), (Action.SKIP, WarningCode.STALE), "not proved the same")
        other, status = bytearray(source.read_bytes()), source.stat()
        other[-2] ^= 1
        source.write_bytes(other)
        os.utime(source, ns=(status.st_atime_ns, status.st_mtime_ns))
        self.assertEqual(self.plan("in", ledger=ResultLedger(path)).steps[0].warnings[0].code, WarningCode.STALE)

    def test_changed_sources_and_torn_ledgers(self) -> None:
        source = write_sound(self.folder / "in" / "a.wav", 9_000)
        path = self.folder / "l.jsonl"
        self._run(ResultLedger(path))
        path.write_text(path.read_text() + '{"source": "/x", "sou')
        write_sound(source, 12_000)
        step = self.plan("in", ledger=ResultLedger(path)).steps[0]
        self.assertEqual((step.action, step.warnings[0].code), (Action.SKIP, WarningCode.STALE))
        self.assertEqual(self._run(ResultLedger(path), when_present=WhenPresent.REPLACE)[0].split(":")[0], "convert")
        self.assertEqual(
            self._run(ResultLedger(path)), ["skip: up to date"], "the rule for taken names makes no other work"
        )


class SharedLedgerTests(PlanCase):
    def _entry(self, name: str, content: bytes) -> Entry:
        """A file that is its own result."""
        path = self.folder / name
        path.write_bytes(content)
        status = path.stat()
        size, ns = status.st_size, status.st_mtime_ns
        return Entry(
            source=str(path),
            source_bytes=size,
            source_ns=ns,
            work="w",
            output=str(path),
            output_bytes=size,
            output_ns=ns,
        )

    def test_two_writers_of_one_ledger_lose_nothing(self) -> None:
        path = self.folder / "l.jsonl"
        entries = [self._entry(str(number), b"x" * number) for number in range(4)]
        first, second = ResultLedger(path), ResultLedger(path)
        for entry, ledger in zip(entries, (first, second, first, second), strict=True):
            ledger.add(entry)
        whole = ResultLedger(self.folder / "l.jsonl")
        self.assertTrue(all(whole.finished(str(self.folder / str(n)), "w") for n in range(4)))
        self.assertIsNone(whole.finished(str(self.folder / "0"), "other work"))
        (self.folder / "0").write_bytes(b"changed")
        self.assertIsNone(whole.finished(str(self.folder / "0"), "w"))

    def test_places_have_ledgers_of_their_own_also_through_links(self) -> None:
        (self.folder / "real").mkdir()
        (self.folder / "link").symlink_to(self.folder / "real")
        marks = {str(ResultLedger.for_destination(self.folder, self.folder / name).path) for name in ("real", "link")}
        self.assertEqual(len(marks), 1)


class LandingTests(PlanCase):
    """A run that was killed between putting a result into place and hearing of it."""

    def setUp(self) -> None:
        super().setUp()
        write_sound(self.folder / "in" / "a.wav", 9_000)
        self.ledger = ResultLedger(self.folder / "l.jsonl")
        self.step = self.plan("in").steps[0]
        self.landing = partial(note_landing, ledgers={self.step.target.slug: self.ledger.path})

    def test_its_result_is_known_with_all_that_its_check_found(self) -> None:
        made = carry_out(self.step, Watch(landing=self.landing))
        self.assertTrue(made.ok and made.checked)
        self.assertEqual(landed_outcome(self.step, ResultLedger(self.ledger.path)), made)

    def test_what_never_got_its_name_or_changed_since_is_not_taken_for_it(self) -> None:
        def killed(outcome: Outcome, working: Path) -> None:
            self.landing(outcome, working)
            raise Cancelled("killed")

        with self.assertRaises(Cancelled):
            carry_out(self.step, Watch(landing=killed))
        self.assertIsNone(landed_outcome(self.step, ResultLedger(self.ledger.path)))
        Path(self.step.output).write_bytes(b"of somebody else")
        self.assertIsNone(landed_outcome(self.step, ResultLedger(self.ledger.path)))

    def test_a_result_of_the_same_work_elsewhere_is_not_that_of_this_step(self) -> None:
        self.assertTrue(carry_out(self.step, Watch(landing=self.landing)).ok)
        other = replace(self.step, output=str(self.folder / "other.flac"))
        Path(other.output).write_bytes(b"of somebody else")
        self.assertIsNone(landed_outcome(other, ResultLedger(self.ledger.path)))

    def test_a_killed_replacement_leaves_the_older_result_known(self) -> None:
        carry_out(self.step, Watch(landing=self.landing))
        again = replace(self.step, replaces=True)
        with self.assertRaises(Cancelled):
            carry_out(again, Watch(landing=lambda o, w: [self.landing(o, w), stop(1.0)]))
        source = str(Path(self.step.source.path).absolute())
        self.assertIsNotNone(ResultLedger(self.ledger.path).finished(source, self.step.work))
        self.assertIsNotNone(ResultLedger(self.ledger.path).made(self.step.output))

    def test_a_worker_killed_before_it_was_heard_leaves_a_result_that_its_run_knows(self) -> None:
        landings = Landings(self.folder)
        made = carry_out(self.step, Watch(landing=landings.note))
        stamp = Path(self.step.output).stat().st_mtime_ns
        again = _work((self.step,), lambda share: None, checks=True, ledgers={}, landings=landings)  # type: ignore[arg-type]
        self.assertEqual((again, Path(self.step.output).stat().st_mtime_ns), ([made], stamp))
        self.assertEqual(_lost((self.step,), Death(4, crashed=True), landings=landings), [made])
        Path(self.step.output).rename(self.folder / "moved")
        self.assertIsNone(landings.outcome(self.step))
        Path(self.step.output).write_bytes(b"of somebody else")
        self.assertIsNone(landings.outcome(self.step))
        (failed,) = _work((self.step,), lambda share: None, checks=True, ledgers={}, landings=landings)  # type: ignore[arg-type]
        self.assertIn("appeared in the meantime", failed.error)
        landings.forget(self.step)
        Path(self.step.output).unlink()
        (self.folder / "moved").rename(self.step.output)
        self.assertIsNone(landings.outcome(self.step))

    def test_a_part_of_a_source_is_known_as_that_and_not_as_finished(self) -> None:
        outcome = Outcome(step=self.step, ok=False, partial=True, error="Only a part.")
        Path(self.step.output).parent.mkdir(parents=True, exist_ok=True)
        Path(self.step.output).write_bytes(b"a part")
        self.landing(outcome, Path(self.step.output))
        ledger = ResultLedger(self.ledger.path)
        self.assertEqual(landed_outcome(self.step, ledger), outcome)
        self.assertIsNone(ledger.finished(str(Path(self.step.source.path).absolute()), self.step.work))


def stop(share: float) -> None:
    raise Cancelled("killed")
