"""Base templates, components and what every screen shares."""

from django.apps import AppConfig


class UiConfig(AppConfig):
    name = "rumbrel.web.ui"
