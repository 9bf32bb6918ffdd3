"""Forms of accounts."""

from typing import Any

from django import forms
from django.contrib.auth.forms import AuthenticationForm, PasswordChangeForm

from rumbrel.web.ui.roles import Role

__all__ = ["AccountForm", "FirstForm", "NewAccountForm", "OwnPasswordForm", "SetPasswordForm", "SignInForm"]

_ROLES = [(str(role.value), role.said) for role in Role]


def _field(**attributes: str) -> dict[str, str]:
    return {"class": "field", **attributes}


class SignInForm(AuthenticationForm):
    """What is wrong does not say which of the two it is."""

    error_messages = {
        "invalid_login": "Name and password do not match. Check capital letters.",
        "inactive": "Name and password do not match. Check capital letters.",
    }

    def __init__(self, *args: Any, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        self.fields["username"].label = "Name"
        self.fields["username"].widget.attrs.update(_field(autocomplete="username"))
        self.fields["password"].widget.attrs.update(_field(autocomplete="current-password"))


class OwnPasswordForm(PasswordChangeForm):
    """The old one is asked for, so that an open window is not enough."""

    def __init__(self, *args: Any, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        for field in self.fields.values():
            field.widget.attrs.update(_field())
            field.help_text = ""
        self.fields["new_password1"].label = "New password, 12 characters at least"
        self.fields["new_password2"].label = "Once more"


class FirstForm(forms.Form):
    """Name and password of the first account."""

    name = forms.CharField(max_length=60, label="Name", widget=forms.TextInput(attrs=_field(autocomplete="username")))
    password = forms.CharField(
        max_length=200, strip=False, label="Password, 12 characters at least",
        widget=forms.PasswordInput(attrs=_field(autocomplete="new-password")),
    )  # fmt: skip


class NewAccountForm(FirstForm):
    role = forms.TypedChoiceField(
        choices=_ROLES, coerce=int, label="May", widget=forms.Select(attrs=_field()), initial=str(Role.WORK.value)
    )


class AccountForm(forms.Form):
    """What an account may do, and whether it may sign in."""

    role = forms.TypedChoiceField(choices=_ROLES, coerce=int, label="May", widget=forms.Select(attrs=_field()))
    is_active = forms.BooleanField(required=False, label="May sign in")


class SetPasswordForm(forms.Form):
    password = forms.CharField(
        max_length=200, strip=False, label="New password",
        widget=forms.PasswordInput(attrs=_field(autocomplete="new-password")),
    )  # fmt: skip
