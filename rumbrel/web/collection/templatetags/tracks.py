"""Cells of the table of tracks."""

from collections.abc import Sequence

from django import template
from django.utils.html import format_html
from django.utils.safestring import SafeString

from rumbrel.web.ui.templatetags.figures import bar

from ..columns import Column
from ..models import Track

register = template.Library()


@register.simple_tag
def cells(columns: Sequence[Column], track: Track, longest_seconds: float) -> SafeString:
    """A row's cells behind its title, made in one go, since there are hundreds on a page."""
    row = SafeString()
    for column in columns:
        if column.is_bar:
            row += format_html("<td>{}</td>", bar(track.seconds, longest_seconds))
        else:
            row += format_html('<td class="{}">{}</td>', column.css_of(track), column.cell(track))
    return row
