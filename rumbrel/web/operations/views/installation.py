"""How this installation is: its self-check, its backups, and what grows."""

from django.conf import settings
from django.contrib import messages
from django.http import HttpRequest, HttpResponse
from django.shortcuts import redirect, render
from django.views.decorators.http import require_POST, require_safe

import rumbrel
from rumbrel.web.jobs.models import Job
from rumbrel.web.jobs.rows import job_row
from rumbrel.web.ui.answers import refusals_told

from .. import services
from ..forms import BackupPlanForm

__all__ = ["back_up_now", "check_now", "index", "plan_backups"]


@require_safe
def index(request: HttpRequest) -> HttpResponse:
    plan = services.backup_plan()
    names = ("every_days", "folder", "keep", "with_files")
    job = Job.objects.filter(kind="backup").first()
    context = {
        "kept": services.kept_check(), "checking": Job.objects.filter(kind="self-check", state__in=Job.ACTIVE).exists(),
        "data": settings.RUMBREL.data, "version": rumbrel.__version__,
        "plan": plan, "backup": job_row(job) if job else None,
        "form": BackupPlanForm(initial={name: getattr(plan, name) for name in names}),
        "backups": services.backups_in(plan.folder) if plan.folder else [],
    }  # fmt: skip
    return render(request, "operations/installation.html", context)


@require_POST
def check_now(request: HttpRequest) -> HttpResponse:
    services.start_self_check()
    messages.success(request, "The self-check has begun; what it finds stands here when it has ended.")
    return redirect("operations:index")


@require_POST
def plan_backups(request: HttpRequest) -> HttpResponse:
    form = BackupPlanForm(request.POST)
    if not form.is_valid():
        messages.error(request, "Choose how often, a folder, and how many backups to keep (1 to 365).")
        return redirect("operations:index")
    with refusals_told(request):
        plan = services.change_backup_plan(**form.cleaned_data)
        messages.success(request, f"Saved: {plan}.")
    return redirect("operations:index")


@require_POST
def back_up_now(request: HttpRequest) -> HttpResponse:
    services.start_backup()
    messages.success(request, "The backup is being taken. It is read again and restored for a trial.")
    return redirect("operations:index")
