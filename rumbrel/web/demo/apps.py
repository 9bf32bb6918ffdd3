"""The demo: a collection with work already done, so that every screen shows something at first sight."""

from django.apps import AppConfig


class DemoConfig(AppConfig):
    name = "rumbrel.web.demo"
