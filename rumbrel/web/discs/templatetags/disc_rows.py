"""The rows of a disc's table. They are drawn anew with every change, so they are made without a template: of figures of
ours, and of texts that are escaped."""

import unicodedata

from django import template
from django.utils.html import escape
from django.utils.safestring import mark_safe

from ..rows import TrackRow

register = template.Library()


@register.filter
def named_sign(sign: str) -> str:
    """A character in quotes with its name: many differ by so little that nobody sees it."""
    names = [unicodedata.name(each, f"U+{ord(each):04X}").lower() for each in sign]
    return f"“{sign}” ({', '.join(names)})"


@register.simple_tag
def laid_row(row: TrackRow, address: str, still: bool) -> str:
    """A track that lies on the disc. address is that of its page, with 0 for its key; still says that nothing may be
    changed now."""
    key, title, performer, gap = row.key, escape(row.title), escape(row.performer), escape(row.gap)
    disabled = " disabled" if still else ""
    coded = f' title="Players show: {escape(row.coded)}"' if row.coded else ""
    state = ""
    if row.over:
        state = '<span class="fail">runs over</span>'
    elif row.equal is not None:
        state = (
            '<span class="verdict verdict-passed">identical</span>'
            if row.equal
            else '<span class="fail">differs</span>'
        )
    first = '<span class="text-second">first</span> ' if row.first else ""
    lead = f'<br><span class="text-second">{escape(row.lead)}</span>' if row.lead else ""
    page = address.replace("/track/0/", f"/track/{key}/")
    return mark_safe(  # noqa: S308 - every text in it was escaped above
        f'<tr data-row id="disc-row-{key}" data-key="{key}" data-track="{row.track_id}" data-title="{title}">'
        f'<td class="num"><a href="{page}" data-open="{key}" data-opens id="open-{key}" aria-label="Track {row.number}: {title}">{row.number}</a></td>'
        '<td class="handle" data-handle aria-hidden="true">≡</td>'
        f'<th scope="row" class="wide"><input class="cell" id="title-{key}" data-text="title" value="{title}" aria-label="Title of track {row.number}"{coded}{disabled}></th>'
        f'<td><input class="cell soft" id="performer-{key}" data-text="performer" value="{performer}" aria-label="Performer of track {row.number}"{disabled}></td>'
        f'<td class="fig">{first}<input class="cell cell-gap" id="gap-{key}" data-gap value="{gap}" aria-label="Gap before track {row.number}"{disabled}>{lead}</td>'
        f'<td class="num">{row.start}</td><td class="num">{row.length}</td><td class="num">{row.gain}</td>'
        f'<td class="whitespace-nowrap">{state}</td></tr>\n'
    )
