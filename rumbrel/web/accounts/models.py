"""Accounts: who may sign in where Rumbrel is open to others than this machine's user."""

from django.contrib.auth.base_user import AbstractBaseUser, BaseUserManager
from django.db import models

from rumbrel.web.ui.roles import Role


class Account(AbstractBaseUser):
    """A name, a password and a role. One that is not active cannot sign in; what it did keeps its name."""

    name = models.CharField(max_length=60, unique=True)
    role = models.PositiveSmallIntegerField(choices=[(role.value, role.said) for role in Role], default=Role.LISTEN)
    is_active = models.BooleanField(default=True)
    created_at = models.DateTimeField(auto_now_add=True)

    objects = BaseUserManager()
    USERNAME_FIELD = "name"

    class Meta:
        ordering = ("name",)

    def __str__(self) -> str:
        return self.name

    @property
    def role_said(self) -> str:
        return Role(self.role).said


class AdministrativeAct(models.Model):
    """A press that only administrators may make: who made it, which, and on what address."""

    owner = models.CharField(max_length=60)
    view = models.CharField(max_length=80)
    address = models.CharField(max_length=400)
    at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ("-pk",)

    def __str__(self) -> str:
        return f"{self.owner}: {self.view}"

    @property
    def said(self) -> str:
        """The name of the view as words."""
        room, _, name = self.view.partition(":")
        return f"{room.capitalize()}: {name.replace('-', ' ')}"
