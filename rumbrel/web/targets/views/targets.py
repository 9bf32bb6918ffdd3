"""The catalogue of targets."""

from django.http import HttpRequest, HttpResponse
from django.shortcuts import render
from django.views.decorators.http import require_safe

from rumbrel.core.targets import all_targets

from ..rows import target_row


@require_safe
def index(request: HttpRequest) -> HttpResponse:
    return render(request, "targets/targets.html", {"rows": [target_row(target) for target in all_targets()]})
