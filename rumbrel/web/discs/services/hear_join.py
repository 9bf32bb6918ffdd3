"""What is heard of a disc before it is written: where two neighbours meet."""

import hashlib
import json
from pathlib import Path

from rumbrel.core.errors import DiscError
from rumbrel.core.records import as_record
from rumbrel.core.workflows.hear_seam import seam_layout
from rumbrel.web.collection.services import Heard, hear_seam, see_that_it_is_there

from ..models import Disc
from .plan_layout import plan_layout

__all__ = ["hear_join"]


def hear_join(*, disc: Disc, key: int, joined: bool) -> Heard:
    """The end of the track before and the beginning of this one, as the disc has them, or as they would run on. Raises
    RumbrelError where there is no such place, or a file is not there as it was scanned."""
    planned = plan_layout(disc=disc)
    row = next((each for each in planned.audio.rows if each.design.key == key and each.track is not None), None)
    if row is None or row.track is None:
        raise DiscError("That track is no longer on this disc.")
    layout = seam_layout(planned.audio.layout, row.track.number, joined=joined)
    versions = []
    for track in layout.tracks:
        sound = next(each for each in planned.sounds.values() if each.facts and each.facts.path == track.programme.path)
        assert sound.facts is not None
        see_that_it_is_there(sound.facts)
        versions.append((Path(sound.facts.path).name, sound.facts.modified_ns, sound.facts.size_bytes))
    said = json.dumps([as_record(layout), versions], sort_keys=True)
    return hear_seam(layout, tag=f"seam-{hashlib.sha256(said.encode('utf-8', 'surrogateescape')).hexdigest()[:24]}")
