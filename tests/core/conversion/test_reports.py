"""Reports of a run as files."""

import json
import os
from pathlib import Path

from rumbrel.core.conversion import carry_out, write_report
from rumbrel.core.errors import OutputError
from rumbrel.core.forecast import (
    forecast_batch,
    gather_sources,
)
from rumbrel.core.targets import find_target
from tests.core.case import FolderCase
from tests.signals import write_sound


class ReportTests(FolderCase):
    def test_reports_are_whole_and_harmless(self) -> None:
        write_sound(self.folder / "=1+1.wav", 9_000)
        self.addCleanup(os.chdir, Path.cwd())
        os.chdir(self.folder)
        sources = gather_sources([Path("=1+1.wav"), Path("no.wav")])
        outcomes = [carry_out(step) for step in forecast_batch(sources, find_target("car-mp3"), self.out).steps]
        write_report(outcomes, self.folder / "r.csv")
        lines = (self.folder / "r.csv").read_text().splitlines()
        self.assertTrue(lines[1].startswith("'=1+1.wav,"))
        write_report(outcomes, self.folder / "r.json")
        self.assertEqual([row["ok"] for row in json.loads((self.folder / "r.json").read_text())], [True, False])
        with self.assertRaisesRegex(OutputError, "csv"):
            write_report(outcomes, self.folder / "r.txt")
