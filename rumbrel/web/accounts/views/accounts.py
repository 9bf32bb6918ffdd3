"""Sign in and out, one's own password, the first account, and all of them."""

import ipaddress

from django.conf import settings
from django.contrib import messages
from django.contrib.auth import login
from django.contrib.auth.views import LoginView, LogoutView, PasswordChangeView
from django.core.paginator import Paginator
from django.http import Http404, HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse_lazy
from django.views.decorators.http import require_POST, require_safe

from rumbrel.web.ui.answers import refusals_told
from rumbrel.web.ui.roles import Role
from rumbrel.web.ui.views.errors import not_allowed

from .. import services
from ..forms import AccountForm, FirstForm, NewAccountForm, OwnPasswordForm, SetPasswordForm, SignInForm
from ..models import Account, AdministrativeAct

__all__ = [
    "OwnPassword",
    "SignIn",
    "SignOut",
    "add",
    "change",
    "first",
    "index",
    "lift",
    "locked_out",
    "records",
    "set_password",
]


class SignIn(LoginView):
    template_name = "accounts/sign_in.html"
    authentication_form = SignInForm
    redirect_authenticated_user = True


class SignOut(LogoutView):
    next_page = reverse_lazy("accounts:sign-in")


class OwnPassword(PasswordChangeView):
    template_name = "accounts/password.html"
    form_class = OwnPasswordForm
    success_url = reverse_lazy("accounts:password")

    def form_valid(self, form: OwnPasswordForm) -> HttpResponse:
        messages.success(self.request, "Your password is changed. Other windows are signed out.")
        return super().form_valid(form)


def locked_out(request: HttpRequest, credentials: object = None, *more: object) -> HttpResponse:
    """Too many wrong passwords for a name from one address."""
    minutes = round(settings.AXES_COOLOFF_TIME.total_seconds() / 60)
    text = f"Too many wrong passwords for that name. Wait {minutes} minutes, then try again."
    return not_allowed(request, text, status=429)


def _is_here(request: HttpRequest) -> bool:
    try:
        return ipaddress.ip_address(request.META.get("REMOTE_ADDR", "")).is_loopback
    except ValueError:
        return False


def first(request: HttpRequest) -> HttpResponse:
    """The first account administers. It can be made from this machine alone, and only while there is none."""
    if not services.may_be_first() or not _is_here(request) or settings.RUMBREL.is_open:
        raise Http404("The first account is made on the machine itself, and is there already.")
    form = FirstForm(request.POST or None)
    if request.method == "POST" and form.is_valid():
        try:
            account = services.make_account(role=Role.ADMINISTER, **form.cleaned_data)
        except services.AccountRefused as error:
            form.add_error(None, str(error))
        else:
            if settings.RUMBREL.has_accounts:
                login(request, account, backend="django.contrib.auth.backends.ModelBackend")
            messages.success(request, f"The account {account} administers this installation.")
            return redirect("accounts:index")
    return render(request, "accounts/first.html", {"form": form})


@require_safe
def index(request: HttpRequest) -> HttpResponse:
    rows = [
        (
            account,
            AccountForm(initial={"role": account.role, "is_active": account.is_active}, auto_id=f"%s-{account.pk}"),
        )
        for account in Account.objects.all()
    ]
    new = NewAccountForm()
    return render(
        request,
        "accounts/accounts.html",
        {"rows": rows, "new": new, "set_password": SetPasswordForm(), "first": not rows},
    )


@require_safe
def records(request: HttpRequest) -> HttpResponse:
    """Sign-ins, locks, and what administrators did."""
    page = Paginator(AdministrativeAct.objects.all(), 50).get_page(request.GET.get("page"))
    context = {"sign_ins": services.sign_ins(), "locks": services.locks(), "page": page, "days": services.DAYS_KEPT}
    return render(request, "accounts/records.html", context)


@require_POST
def lift(request: HttpRequest, pk: int) -> HttpResponse:
    name = services.lift_lock(pk=pk)
    if name:
        messages.success(request, f"{name} can try to sign in again.")
    else:
        messages.error(request, "That lock has ended already.")
    return redirect("accounts:records")


@require_POST
def add(request: HttpRequest) -> HttpResponse:
    form = NewAccountForm(request.POST)
    if not form.is_valid():
        messages.error(request, "Give the account a name and a password.")
        return redirect("accounts:index")
    with refusals_told(request):
        sent = form.cleaned_data
        account = services.make_account(name=sent["name"], password=sent["password"], role=Role(sent["role"]))
        messages.success(request, f"The account {account} may {account.role_said}.")
    return redirect("accounts:index")


@require_POST
def change(request: HttpRequest, pk: int) -> HttpResponse:
    account, form = get_object_or_404(Account, pk=pk), AccountForm(request.POST)
    if form.is_valid():
        with refusals_told(request):
            role, is_active = Role(form.cleaned_data["role"]), form.cleaned_data["is_active"]
            services.change_account(account=account, role=role, is_active=is_active)
            state = f"may {account.role_said}" if is_active else "can no longer sign in"
            messages.success(request, f"The account {account} {state}.")
    return redirect("accounts:index")


@require_POST
def set_password(request: HttpRequest, pk: int) -> HttpResponse:
    account, form = get_object_or_404(Account, pk=pk), SetPasswordForm(request.POST)
    if form.is_valid():
        with refusals_told(request):
            services.change_password(account=account, password=form.cleaned_data["password"])
            messages.success(request, f"The account {account} has a new password and is signed out everywhere.")
    return redirect("accounts:index")
