"""The demo: its collection with work already done, and a tour of it."""

from django.apps import AppConfig

from rumbrel.web.ui.roles import Role, needs


class DemoConfig(AppConfig):
    name = "rumbrel.web.demo"

    def ready(self) -> None:
        needs(Role.LISTEN, "demo:tour-next", "demo:tour-leave")
