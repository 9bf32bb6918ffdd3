"""One progress: shares, parts of a whole, and not more often than somebody can look."""

from unittest import TestCase, mock

from rumbrel.core.progress import Pace, Progress, Throttle, Unit, within


def at(done: float, total: float = 10, step: str = "") -> Progress:
    return Progress(done=done, total=total, unit=Unit.FILES, step=step)


class ProgressTests(TestCase):
    def test_shares(self) -> None:
        for done, total, share in ((0, 0, 0.0), (5, 10, 0.5), (12, 10, 1.0), (-1, 10, 0.0), (1, -1, 0.0)):
            self.assertEqual(at(done, total).share, share)

    def test_a_part_takes_its_share_of_the_whole(self) -> None:
        told: list[Progress] = []
        report = within(told.append, at(0, 200, "whole"), 0.25, 0.75)
        report(at(0))
        report(at(5, step="part"))
        report(at(10))
        self.assertEqual([(p.done, p.total, p.step) for p in told],
                         [(50, 200, "whole"), (100, 200, "part"), (150, 200, "whole")])  # fmt: skip

    def test_time_left_is_of_the_last_half_minute(self) -> None:
        pace = Pace()
        left = []
        # Half is there from an earlier run, ten are done at once, then one a second.
        for now, done in ((0.0, 50), (0.5, 60), (1.0, 60), (11.0, 70), (31.0, 80), (41.0, 90)):
            with mock.patch("time.monotonic", return_value=now):
                left.append(pace.seconds_left(at(done, 100, "step")))
        self.assertEqual(left[:3], [None, None, None])
        self.assertAlmostEqual(left[3], 30 * 11 / 20)
        self.assertAlmostEqual(left[5], 10 * 30 / 20)
        with mock.patch("time.monotonic", return_value=50.0):
            self.assertIsNone(pace.seconds_left(at(91, 100, "another step")))

    def test_throttled_but_for_new_steps_and_the_end(self) -> None:
        told: list[Progress] = []
        throttle = Throttle(told.append, every_seconds=1.0)
        times = [(0.0, at(1)), (0.9, at(2)), (1.0, at(3)), (1.1, at(4, step="next")), (1.2, at(5, step="next")),
                 (1.3, at(10, step="next"))]  # fmt: skip
        for now, progress in times:
            with mock.patch("time.monotonic", return_value=now):
                throttle(progress)
        self.assertEqual([p.done for p in told], [1, 3, 4, 10])
