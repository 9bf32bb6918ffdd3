"""Changes as people make them: on a disc of 99 tracks, over and under, and on lists of 10,000 and 100,000 entries."""

from typing import Any

__all__ = ["measure_lists"]

_LONG = (10_000, 100_000)


def measure_lists(show: Any) -> None:
    """show is told (what, address, values to be posted)."""
    from django.urls import reverse

    from rumbrel.core.disc.design import DiscDesign
    from rumbrel.core.records import as_record
    from rumbrel.web.collection.models import Track
    from rumbrel.web.discs.models import Disc
    from rumbrel.web.discs.services import plan_layout
    from rumbrel.web.playlists.services import make_playlist
    from tests.scale import fill

    fill(_LONG[-1])
    ids = list(Track.objects.filter(usable=True).values_list("pk", flat=True))
    playlist = make_playlist(name="Disc", track_ids=ids[:99])
    disc = Disc.objects.create(
        playlist=playlist, name="Disc", plan=as_record(DiscDesign.of(ids[:99], texts={"title": "Disc"}))
    )
    # Each turn is a change: a track goes one further down, and is kept with a way back.
    step = {"keys": str(disc.design.tracks[2].key), "way": "down"}
    for medium in ("80", "90"):
        Disc.objects.filter(pk=disc.pk).update(plan={**disc.plan, "medium_key": medium})
        over = plan_layout(disc=Disc.objects.get(pk=disc.pk)).audio.layout.free_sectors < 0
        show(
            f"disc of 99 tracks, {'over, with offers' if over else 'under'}: one down",
            reverse("discs:act", args=[disc.pk, "step"]),
            step,
        )
    show("disc of 99 tracks, page", reverse("discs:disc", args=[disc.pk]), None)
    for count in _LONG:
        long = make_playlist(name="Long", track_ids=(ids * 2)[:count])
        last = str(long.entries.last().pk)
        first = str(long.entries.first().pk)
        show(f"list of {count:,}: page", reverse("playlists:playlist", args=[long.pk]), None)
        act = reverse("playlists:act", args=[long.pk, "step"])
        show(f"list of {count:,}: one down", act, {"entry": first, "way": "down"})
        show(f"list of {count:,}: the last to the top", act, {"entry": last, "way": "top"})
        show(f"list of {count:,}: shuffle", reverse("playlists:act", args=[long.pk, "shuffle"]), {"seed": "7"})
        show(f"list of {count:,}: sort", reverse("playlists:act", args=[long.pk, "sort"]), {"order": "title"})
