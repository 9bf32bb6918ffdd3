"""A run at its edges, and verifying what it made."""

from pathlib import Path

from rumbrel.core.conversion import Outcome, run_steps, verify_step
from rumbrel.core.forecast import Action, ForecastOptions, WhenPresent, forecast_batch, gather_sources
from rumbrel.core.progress import Progress
from rumbrel.core.targets import find_target
from tests.core.case import FolderCase
from tests.signals import write_film, write_sound


class RunTests(FolderCase):
    def test_nothing_to_do_and_more_workers_than_work(self) -> None:
        self.assertEqual(list(run_steps([], jobs=8)), [])
        source = write_sound(self.folder / "a.wav", 9_000)
        plan = forecast_batch(
            gather_sources([source, self.folder / "gone.wav"]), find_target("disc-aiff"), self.folder / "o"
        )
        events = list(run_steps(plan.steps, jobs=8))
        self.assertEqual([e.ok for e in events if isinstance(e, Outcome)], [False, True])
        last = [e for e in events if isinstance(e, Progress)][-1]
        self.assertEqual((last.finished, last.items), (1, 1))
        self.assertAlmostEqual(last.done, last.total)

    def test_verifying_copies_and_re_wrapped_sound(self) -> None:
        film = write_film(self.folder / "in" / "f.mp4", seconds=1)
        flac = write_sound(self.folder / "in" / "a.flac")
        options = ForecastOptions(when_present=WhenPresent.REPLACE)
        for source, target, action in ((film, "pocket-aac", Action.REWRAP), (flac, "archive-flac", Action.COPY)):
            step = forecast_batch(
                gather_sources([source]), find_target(target), self.folder / "o", options=options
            ).steps[0]
            self.assertEqual(step.action, action)
            outcome = next(e for e in run_steps([step], jobs=1) if isinstance(e, Outcome))
            self.assertTrue(outcome.ok, outcome.error)
            self.assertTrue(verify_step(step).ok)
            data = bytearray(Path(step.output).read_bytes())
            data[len(data) // 2] ^= 0xFF
            Path(step.output).write_bytes(data)
            failed = verify_step(step)
            self.assertTrue(not failed.ok and failed.error.endswith("."), failed.error)
