"""The tags of some tracks: what they are, what would change, and what was changed."""

from typing import Any

from django.contrib import messages
from django.core.paginator import Paginator
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.views.decorators.http import require_POST, require_safe

from rumbrel.core.errors import RumbrelError
from rumbrel.core.tags.mapping import FIELDS
from rumbrel.core.tags.wishes import changes_for
from rumbrel.web.collection.queries import pulled_ids
from rumbrel.web.ui.seen import changed_since_shown

from .. import services
from ..forms import EditForm, TracksForm
from ..models import TagEdit
from ..queries import edits, mark_of_files, named_files
from ..rows import change_rows, changed_values, changes_record, grid_columns, grid_rows

MOST_SHOWN = 200
PAGE_FILES = 200
PAGE_EDITS = 50


def _ids(form: TracksForm) -> list[int]:
    found = form.ids()
    return pulled_ids() if found is None else found


@require_safe
def tags(request: HttpRequest) -> HttpResponse:
    form = TracksForm(request.GET)
    named, ids = form.ids(), _ids(form)
    files = named_files(ids)
    columns = grid_columns(files, request.GET.getlist("field")[:20])
    return render(
        request,
        "tags/tags.html",
        {
            "columns": columns,
            "pictured": [file for file in files if file.pictures],
            "rows": grid_rows(files[:MOST_SHOWN], columns),
            "more": max(0, len(files) - MOST_SHOWN),
            "more_fields": [(row.name, row.label) for row in FIELDS if row.name not in dict(columns)],
            "asked_fields": request.GET.getlist("field")[:20],
            "form": EditForm(),
            "files": files,
            "pulled": named is None,
            "tracks": ",".join(map(str, named or ())),
            "seen": mark_of_files(files),
            "left_out": len(ids) - len(files),
        },
    )


@require_POST
def preview(request: HttpRequest) -> HttpResponse:
    """What would change in every file."""
    form = EditForm(request.POST, request.FILES)
    context: dict[str, Any] = {"remarks": form.remarks()}
    if form.is_valid():
        files, wish = named_files(_ids(form)), form.wish()
        context["seen"] = mark_of_files(files)
        context["asked"] = not wish.is_empty or bool(form.cleaned_data["cover_act"])
        context["cover_act"] = form.cleaned_data["cover_act"]
        context["files"] = len(files)
        try:
            changes = changes_for(files, wish)
        except RumbrelError as error:
            context["remarks"] = [str(error)]
        else:
            shown = {file.id for file in files[:MOST_SHOWN]}
            hidden = [row for row in change_rows(files, changes) if row.id not in shown]
            context |= {
                "changed": len(changes),
                "values": sum(map(len, changes.values())),
                "others": hidden[:MOST_SHOWN],
                "more": max(0, len(hidden) - MOST_SHOWN),
                "counts": {name: len(changes_for(files, part)) for name, part in wish.parts.items()},
                "record": changes_record({pk: fields for pk, fields in changes.items() if pk in shown}),
            }
    return render(request, "tags/_preview.html", context)


@require_POST
def write(request: HttpRequest) -> HttpResponse:
    form = EditForm(request.POST, request.FILES)
    named = form.ids()
    again = reverse("tags:tags") + (f"?tracks={','.join(map(str, named))}" if named else "")
    if not form.is_valid():
        messages.error(request, " ".join(form.remarks()))
        return redirect(again)
    found, ids = form.cleaned_data, _ids(form)
    if told := changed_since_shown(form.data.get("seen", ""), mark_of_files(named_files(ids)), what="file"):
        messages.error(request, told)
        return redirect(again)
    try:
        edit = services.start_edit(
            track_ids=ids, wish=form.wish(), cover_act=found["cover_act"], cover=found["cover"],
            pixels=found["cover_pixels"] or 600,
        )  # fmt: skip
    except RumbrelError as error:
        messages.error(request, str(error))
        return redirect(again)
    return redirect("tags:edit", pk=edit.pk)


@require_safe
def edit_list(request: HttpRequest) -> HttpResponse:
    page = Paginator(edits(), PAGE_EDITS).get_page(request.GET.get("page"))
    return render(request, "tags/edits.html", {"page": page})


def _edit_context(request: HttpRequest, pk: int) -> dict[str, Any]:
    edit = get_object_or_404(edits(), pk=pk)
    # What failed comes first.
    page = Paginator(edit.files.order_by("-state", "pk"), PAGE_FILES).get_page(request.GET.get("page"))
    rows = [(file, changed_values(file.before, file.change)) for file in page]
    undone = getattr(edit, "undone_by", None)
    return {"edit": edit, "page": page, "rows": rows, "undone": undone, "busy": edit.job and edit.job.active}


@require_safe
def edit(request: HttpRequest, pk: int) -> HttpResponse:
    return render(request, "tags/edit.html", _edit_context(request, pk))


@require_safe
def edit_files(request: HttpRequest, pk: int) -> HttpResponse:
    return render(request, "tags/_files.html", _edit_context(request, pk))


@require_POST
def undo(request: HttpRequest, pk: int) -> HttpResponse:
    try:
        back = services.undo_edit(edit=get_object_or_404(TagEdit, pk=pk))
    except RumbrelError as error:
        messages.error(request, str(error))
        return redirect("tags:edit", pk=pk)
    return redirect("tags:edit", pk=back.pk)


@require_POST
def again(request: HttpRequest, pk: int) -> HttpResponse:
    """Try once more what could not be written."""
    services.try_edit_again(edit=get_object_or_404(TagEdit, pk=pk))
    return redirect("tags:edit", pk=pk)
