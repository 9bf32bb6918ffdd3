"""How this installation is: its self-check, and what grows."""

from django.conf import settings
from django.http import HttpRequest, HttpResponse
from django.shortcuts import render
from django.views.decorators.http import require_safe

import rumbrel

from .. import services

__all__ = ["index"]


@require_safe
def index(request: HttpRequest) -> HttpResponse:
    checks, rows = services.check_self(), services.growths()
    context = {
        "checks": checks, "rows": rows, "total_bytes": sum(row.size_bytes for row in rows),
        "data": settings.RUMBREL.data, "version": rumbrel.__version__,
        "wrong": [check for check in checks if check.remedy],
    }  # fmt: skip
    return render(request, "operations/installation.html", context)
