"""Cells of the table of tracks."""

from django import template
from django.utils.html import format_html

from rumbrel.web.ui.templatetags.figures import bar

from ..columns import Column
from ..models import Track

register = template.Library()


@register.simple_tag
def cell(column: Column, track: Track, longest_seconds: float) -> str:
    """A column's cell of a track, made without a template of its own, since there are hundreds on a page."""
    if column.is_bar:
        return format_html("<td>{}</td>", bar(track.seconds, longest_seconds))
    return format_html('<td class="{}">{}</td>', column.css_of(track), column.cell(track))
