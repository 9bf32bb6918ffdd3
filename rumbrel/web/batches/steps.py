"""Steps as the database keeps them: whole, but for the target, which the batch has once."""

import json
from dataclasses import replace

from rumbrel.core.forecast import Step
from rumbrel.core.records import as_record, from_record
from rumbrel.core.targets import Target

__all__ = ["kept_step", "restored_step"]


def kept_step(step: Step) -> str:
    record = as_record(step)
    del record["target"]
    return json.dumps(record, ensure_ascii=True, separators=(",", ":"))


def restored_step(data: str, target: Target) -> Step:
    record = json.loads(data)
    step = from_record(Step, {**record, "target": as_record(target)})
    # The very same target for every step of a batch.
    return replace(step, target=target)
