"""What is done with a batch once it has ended."""

from collections.abc import Callable
from functools import partial

from django.contrib import messages
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.views.decorators.http import require_POST, require_safe

from rumbrel.core.errors import OutputError, RumbrelError
from rumbrel.core.records import from_record
from rumbrel.core.targets import Target
from rumbrel.web.collection.models import Track
from rumbrel.web.collection.services import clear_pulls, pull_tracks
from rumbrel.web.targets.services import HeldFile, start_holding
from rumbrel.web.ui.seen import SeenError, mark_of, refuse_unseen
from rumbrel.web.ui.words import counted

from .. import services
from ..forms import CoversForm, DigestDaysForm, FolderChoiceForm, query_of
from ..models import Batch, KeptInStep
from ..queries import batches, result_items
from ..wishes import BatchWish


def _button(act: Callable[..., object], said: str) -> Callable[..., HttpResponse]:
    """The view of a button: does something with a batch, and says so or why not."""

    @require_POST
    def view(request: HttpRequest, pk: int) -> HttpResponse:
        try:
            act(batch=get_object_or_404(batches(), pk=pk))
        except RumbrelError as error:
            messages.error(request, str(error))
        else:
            messages.success(request, said)
        return redirect("batches:batch", pk=pk)

    return view


verify = _button(services.start_verifying, "The results are compared with their sources once more.")
join = _button(services.start_joining, "The results are being added to the collection, as a playlist.")
put_back = _button(services.start_putting_back, "The originals are being moved back.")


@require_safe
def choose_what_to_keep(request: HttpRequest, pk: int) -> HttpResponse:
    """What may be kept in sync, with how much each comes to."""
    batch = get_object_or_404(batches(), pk=pk)
    try:
        choices = services.coverages(batch)
    except RumbrelError as error:
        messages.error(request, str(error))
        return redirect("batches:batch", pk=pk)
    return render(request, "batches/keep.html", {"batch": batch, "choices": choices})


@require_POST
def keep(request: HttpRequest, pk: int) -> HttpResponse:
    batch, form = get_object_or_404(batches(), pk=pk), CoversForm(request.POST)
    try:
        choices = services.coverages(batch)
        if not form.is_valid():
            raise OutputError("Choose which files to keep in sync.")
        covers = form.cleaned_data["covers"]
        services.keep_in_step(batch=batch, covers=covers)
    except RumbrelError as error:
        messages.error(request, str(error))
        return redirect("batches:batch", pk=pk)
    covered = next(each for each in choices if each.key == covers)
    said = f"{covered.label.capitalize()}, {counted(covered.tracks, 'track')}, kept in sync:"
    messages.success(request, f"{said} after each scan, new and changed files are converted.")
    return redirect("batches:batch", pk=pk)


@require_POST
def again(request: HttpRequest, pk: int) -> HttpResponse:
    """The same tracks on the pull list, and the forecast with the same settings."""
    batch = get_object_or_404(Batch.objects.all(), pk=pk)
    there = set(Track.objects.filter(pk__in=batch.track_ids).values_list("pk", flat=True))
    ids = [track for track in batch.track_ids if track in there]
    clear_pulls()
    pull_tracks(ids=ids)
    gone = len(batch.track_ids) - len(ids)
    text = f"{counted(len(ids), 'track')} of batch {pk} pulled." + (f" {gone:,} are gone." if gone else "")
    messages.success(request, text)
    return redirect(f"{reverse('batches:forecast')}?{query_of(BatchWish.restored(batch.targets, batch.options))}")


@require_POST
def hold(request: HttpRequest, pk: int) -> HttpResponse:
    """The results of each target held against it, as a specification."""
    batch = get_object_or_404(batches(), pk=pk)
    targets = {target["slug"]: from_record(Target, target) for target in batch.targets}
    files: dict[str, list[HeldFile]] = {slug: [] for slug in targets}
    for item in result_items(batch):
        path = services.result_file(batch, item)
        if path is not None and item.target_slug in files:
            hear = f"{reverse('compare:index')}?{item.hear_query}" if item.hear_query else ""
            files[item.target_slug].append(
                HeldFile(title=item.title, path=str(path), seconds=item.seconds, hear=hear, hear_at=item.worst_clock)
            )
    try:
        checks = [
            start_holding(target=targets[slug], files=some, about=f"batch {pk}") for slug, some in files.items() if some
        ]
        if not checks:
            messages.error(request, "This batch has no results that are there.")
            return redirect("batches:batch", pk=pk)
    except RumbrelError as error:
        messages.error(request, str(error))
        return redirect("batches:batch", pk=pk)
    return redirect("targets:specification", checks[0].pk)


@require_safe
def aside(request: HttpRequest, pk: int) -> HttpResponse:
    """Which originals would be moved, before any is."""
    batch = get_object_or_404(batches(), pk=pk)
    refusal = services.aside_refusal(batch)
    context = {
        **(_movable(batch) if not refusal else {}),
        "batch": batch,
        "refusal": refusal,
        "moved": batch.aside.count(),
    }
    return render(request, "batches/aside.html", context)


def _movable(batch: Batch) -> dict[str, object]:
    """What of the originals the page shows, and the mark of that."""
    originals, without_equal = (
        [str(path).encode("utf-8", "replace").decode() for path in paths]
        for paths in ((path for path, _ in services.originals_of(batch)), services.lossless_without_equal(batch))
    )
    return {
        "originals": originals,
        "without_equal": without_equal,
        "seen": mark_of(len(originals), originals, without_equal),
    }


@require_POST
def set_aside(request: HttpRequest, pk: int) -> HttpResponse:
    batch = get_object_or_404(batches(), pk=pk)
    if not services.aside_refusal(batch):
        try:
            refuse_unseen(request, str(_movable(batch)["seen"]), what="original")
        except SeenError as error:
            messages.error(request, str(error))
            return redirect("batches:originals", pk=pk)
    form = FolderChoiceForm(request.POST)
    folder = form.cleaned_data["path"] if form.is_valid() else ""
    return _button(partial(services.start_aside, folder=folder), "The originals are being moved.")(request, pk)


@require_POST
def step(request: HttpRequest, pk: int) -> HttpResponse:
    """Bring a kept folder in step now."""
    kept = get_object_or_404(KeptInStep, pk=pk)
    try:
        started = services.bring_in_step(kept=kept)
    except RumbrelError as error:
        messages.error(request, str(error))
        return redirect("batches:index")
    if started is not None:
        return redirect("batches:batch", pk=started.pk)
    messages.success(request, f"{kept.folder.name} is in sync: no new or changed files.")
    return redirect("batches:index")


@require_POST
def digest_days(request: HttpRequest, pk: int) -> HttpResponse:
    """How often the originals' bytes are compared."""
    kept = get_object_or_404(KeptInStep, pk=pk)
    form = DigestDaysForm(request.POST)
    if not form.is_valid():
        messages.error(request, "Choose how often digests are compared.")
        return redirect("batches:index")
    services.change_digest_days(kept=kept, days=int(form.cleaned_data["days"]))
    messages.success(request, "Saved.")
    return redirect("batches:index")


@require_POST
def keep_no_more(request: HttpRequest, pk: int) -> HttpResponse:
    kept = get_object_or_404(KeptInStep.objects.select_related("folder"), pk=pk)
    services.end_keeping(kept=kept)
    messages.success(request, f"Stopped syncing {kept.folder.name}. Its results stay.")
    return redirect("batches:index")
