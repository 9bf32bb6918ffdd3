"""The ledger of finished work: known without opening a file, torn or shared without loss."""

from pathlib import Path

from rumbrel.core.conversion import carry_out
from rumbrel.core.forecast import (
    Action,
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
        for step in plan.steps:
            outcome = carry_out(step)
            if step.writes and outcome.ok:
                with ledger.writing() as writer:
                    source = Path(step.source.path)
                    writer.add(
                        str(source), step.source.size_bytes, step.source.modified_ns, step.work, Path(step.output)
                    )
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

    def test_changed_sources_and_torn_ledgers(self) -> None:
        source = write_sound(self.folder / "in" / "a.wav", 9_000)
        path = self.folder / "l.jsonl"
        self._run(ResultLedger(path))
        path.write_text(path.read_text() + '{"source": "/x", "sou')
        write_sound(source, 12_000)
        step = self.plan("in", ledger=ResultLedger(path)).steps[0]
        self.assertEqual((step.action, step.warnings[0].code), (Action.SKIP, WarningCode.STALE))
        self.assertEqual(self._run(ResultLedger(path), when_present=WhenPresent.REPLACE)[0].split(":")[0], "convert")
        self.assertEqual(self._run(ResultLedger(path)), ["skip: already there"])


class SharedLedgerTests(PlanCase):
    def test_two_writers_of_one_ledger_lose_nothing(self) -> None:
        for number in range(4):
            (self.folder / f"{number}").write_bytes(b"x" * number)
        first, second = ResultLedger(self.folder / "l.jsonl"), ResultLedger(self.folder / "l.jsonl")
        with first.writing() as one, second.writing() as two:
            for number, writer in enumerate((one, two, one, two)):
                status = (self.folder / str(number)).stat()
                writer.add(
                    str(self.folder / str(number)), status.st_size, status.st_mtime_ns, "w", self.folder / str(number)
                )
        whole = ResultLedger(self.folder / "l.jsonl")
        self.assertTrue(all(whole.finished(str(self.folder / str(n)), "w") for n in range(4)))
        self.assertIsNone(whole.finished(str(self.folder / "0"), "other work"))
        (self.folder / "0").write_bytes(b"changed")
        self.assertIsNone(whole.finished(str(self.folder / "0"), "w"))

    def test_places_have_ledgers_of_their_own_also_through_links(self) -> None:
        (self.folder / "real").mkdir()
        (self.folder / "link").symlink_to(self.folder / "real")
        marks = {str(ResultLedger.for_destination(self.folder, self.folder / name)._path) for name in ("real", "link")}
        self.assertEqual(len(marks), 1)
