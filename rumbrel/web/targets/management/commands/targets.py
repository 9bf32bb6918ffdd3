"""./run targets: the catalogue."""

from typing import Any

from rumbrel.core.targets import all_targets
from rumbrel.web.ui.commands import ReportingCommand


class Command(ReportingCommand):
    help = "List the targets and what each accepts."

    def work(self, options: dict[str, Any]) -> bool:
        for target in all_targets():
            formats = ", ".join(dict.fromkeys(row.format for row in target.accepts))
            self.report(
                target.as_record(), f"{target.slug:14} {target.name} (accepts {formats}). {target.about}", options
            )
        return True
