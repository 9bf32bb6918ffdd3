"""Addresses of accounts."""

from django.urls import path

from .views import accounts

app_name = "accounts"
urlpatterns = [
    path("sign-in/", accounts.SignIn.as_view(), name="sign-in"),
    path("sign-out/", accounts.SignOut.as_view(), name="sign-out"),
    path("accounts/", accounts.index, name="index"),
    path("accounts/first/", accounts.first, name="first"),
    path("accounts/password/", accounts.OwnPassword.as_view(), name="password"),
    path("accounts/records/", accounts.records, name="records"),
    path("accounts/locks/<int:pk>/lift/", accounts.lift, name="lift"),
    path("accounts/add/", accounts.add, name="add"),
    path("accounts/<int:pk>/", accounts.change, name="change"),
    path("accounts/<int:pk>/password/", accounts.set_password, name="set-password"),
]
