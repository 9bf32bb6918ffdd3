"""Accounts: who is let in, what each may do, what is their own, and what cannot be tried for long."""

import io
import os
import re
import subprocess
import sys
from dataclasses import replace
from datetime import timedelta
from pathlib import Path

from axes.models import AccessFailureLog
from django.conf import settings
from django.core.management import call_command
from django.core.management.base import CommandError
from django.test import Client, override_settings
from django.urls import get_resolver, reverse
from django.utils import timezone

from rumbrel.web.accounts.models import Account, AdministrativeAct
from rumbrel.web.accounts.services import AccountRefused, change_account, forget_old_records, make_account
from rumbrel.web.collection.models import SavedView, Track
from rumbrel.web.collection.queries import pulled_ids
from rumbrel.web.jobs.management.commands import serve
from rumbrel.web.jobs.models import Job
from rumbrel.web.settings import base
from rumbrel.web.settings.ours import read_environment
from rumbrel.web.tags.models import TagEdit
from rumbrel.web.ui.asking import asking
from rumbrel.web.ui.roles import Role, needed_role
from tests.web.case import WebCase

PASSWORD = "eight bells ring rounds"


class AccountCase(WebCase):
    def setUp(self) -> None:
        super().setUp()
        self.set_up_accounts(asks_sign_in=True)

    def set_up_accounts(self, **more: object) -> None:
        places = override_settings(RUMBREL=replace(settings.RUMBREL, **more))
        places.enable()
        self.addCleanup(places.disable)

    def signed_in(self, name: str, role: Role) -> Client:
        make_account(name=name, password=PASSWORD, role=role)
        client = Client()
        answer = client.post(reverse("accounts:sign-in"), {"username": name, "password": PASSWORD, "next": "/work/"})
        self.assertEqual((answer.status_code, answer["Location"]), (302, "/work/"))
        return client


class AdmissionTests(AccountCase):
    def test_nothing_is_shown_to_who_is_not_signed_in(self) -> None:
        """Every address there is, but those that say nothing of the collection."""
        make_account(name="Orrel", password=PASSWORD, role=Role.ADMINISTER)
        open_ones = {"accounts:sign-in", "accounts:first", "jobs:health"}
        seen = 0
        for app, (_, resolver) in get_resolver().namespace_dict.items():
            for name in {key for key in resolver.reverse_dict if isinstance(key, str)}:
                (template, names), *_ = resolver.reverse_dict.getlist(name)[0][0]
                path = "/" + template % {
                    each: "clean" if each in ("drive", "recorder", "slug") else 1 for each in names
                }
                if f"{app}:{name}" in open_ones:
                    continue
                for ask in (self.client.get, self.client.post):
                    answer = ask(path)
                    self.assertIn(answer.status_code, (302, 401, 405), f"{app}:{name}")
                    if answer.status_code == 302:
                        self.assertTrue(answer["Location"].startswith("/sign-in/?next="), f"{app}:{name}")
                seen += 1
        self.assertGreater(seen, 150)
        fragment = self.client.get(reverse("collection:rows"), headers={"HX-Request": "true"})
        self.assertEqual(fragment["HX-Redirect"], "/sign-in/")
        self.assertEqual(self.client.get(reverse("jobs:health")).status_code, 503, "no worker carries out jobs here")

    def test_a_role_may_what_it_may_and_no_more(self) -> None:
        self.gather()
        track = Track.objects.filter(usable=True).first()
        clients = {role: self.signed_in(role.said, role) for role in Role}
        for name, args, needed in (
            ("collection:pull", [track.pk], Role.LISTEN),
            ("collection:pull-all", [], Role.LISTEN),
            ("batches:start", [], Role.WORK),
            ("tags:write", [], Role.WORK),
            ("playlists:make", [], Role.WORK),
            ("collection:add-folder", [], Role.ADMINISTER),
            ("targets:keep", ["car-mp3"], Role.ADMINISTER),
            ("accounts:add", [], Role.ADMINISTER),
            ("bench:add-volume", [], Role.ADMINISTER),
        ):
            address = reverse(name, args=args)
            for role, client in clients.items():
                status = client.post(address).status_code
                self.assertEqual(status == 403, role < needed, (name, role, status))
        self.assertEqual(clients[Role.WORK].get(reverse("accounts:index")).status_code, 403)
        page = clients[Role.LISTEN].post(reverse("batches:start")).content.decode()
        self.assert_all_in(("Your account may listen", "may work"), page)
        self.assertIn('data-role="listen"', clients[Role.LISTEN].get("/").content.decode())
        self.assertEqual(needed_role("nobody:knows", "POST"), Role.WORK)

    def test_pull_list_and_views_are_ones_own_and_work_keeps_who_asked(self) -> None:
        self.gather()
        first, second = self.signed_in("Venning", Role.ADMINISTER), self.signed_in("Orrel", Role.WORK)
        track = Track.objects.filter(usable=True).first()
        first.post(reverse("collection:pull", args=[track.pk]))
        first.post(reverse("collection:keep-view"), {"name": "mine", "query": "format=FLAC"})
        with asking("Venning"):
            self.assertEqual(pulled_ids(), [track.pk])
        with asking("Orrel"):
            self.assertEqual(pulled_ids(), [])
        self.assertIn("mine", first.get("/").content.decode())
        self.assertNotIn(">mine<", second.get("/").content.decode())
        view = SavedView.objects.get()
        self.assertEqual(second.post(reverse("collection:remove-view", args=[view.pk])).status_code, 404)
        second.post(reverse("collection:look-at-found") + "?" + "text=peal")
        job = Job.objects.latest("pk")
        self.assertEqual((job.kind, job.owner), ("look", "Orrel"))
        self.work()
        second.post(reverse("collection:pull", args=[track.pk]))
        seen = re.search(r'name="seen" value="([^"]+)"', second.get(reverse("tags:tags")).content.decode())
        assert seen is not None
        second.post(reverse("tags:write"), {"more_name": "genre", "more_value": "Carillon", "seen": seen[1]})
        self.assertEqual(TagEdit.objects.get().owner, "Orrel")
        self.assertIn("Orrel", first.get(reverse("jobs:work")).content.decode())

    def test_wrong_passwords_cannot_be_tried_for_long(self) -> None:
        make_account(name="Orrel", password=PASSWORD, role=Role.WORK)
        address, wrong = reverse("accounts:sign-in"), {"username": "Orrel", "password": "wrong"}
        said = [self.client.post(address, wrong) for _ in range(5)]
        self.assertIn("do not match", said[0].content.decode())
        self.assertEqual([answer.status_code for answer in said], [200] * 4 + [429])
        right = self.client.post(address, {"username": "Orrel", "password": PASSWORD})
        self.assertEqual(right.status_code, 429)
        self.assertIn("Wait 15 minutes", right.content.decode())
        unknown = self.client.post(address, {"username": "Nobody", "password": "wrong"}).content.decode()
        strip = re.compile(r'(value|csrfmiddlewaretoken)="[^"]*"|name="csrf[^>]*>')
        self.assertEqual(strip.sub("", unknown), strip.sub("", said[0].content.decode()), "names are not betrayed")

    def test_an_administrator_sees_who_failed_lifts_locks_and_what_was_administered(self) -> None:
        boss, worker = self.signed_in("Venning", Role.ADMINISTER), self.signed_in("Orrel", Role.WORK)
        wrong = {"username": "Orrel", "password": "a secret that is wrong"}
        with self.assertLogs("axes", "WARNING") as log:
            for _ in range(5):
                self.client.post(reverse("accounts:sign-in"), wrong)
        noted = " ".join(log.output)
        self.assertIn("Orrel", noted)
        self.assertIn("127.0.0.1", noted)
        self.assertNotIn("secret that", noted)
        self.assertEqual(worker.get(reverse("accounts:records")).status_code, 403)
        page = boss.get(reverse("accounts:records")).content.decode()
        self.assert_all_in(("wrong password", "locked out", "signed in", "127.0.0.1", "Lift lock"), page)
        self.assertNotIn("secret that", page)
        (lock,) = re.findall(r'id="lift-(\d+)"', page)
        page = boss.post(reverse("accounts:lift", args=[lock]), follow=True).content.decode()
        self.assert_all_in(("Orrel can try to sign in again.", "Accounts: lift", "Venning"), page)
        again = self.client.post(reverse("accounts:sign-in"), {"username": "Orrel", "password": PASSWORD})
        self.assertEqual(again.status_code, 302)
        AdministrativeAct.objects.update(at=timezone.now() - timedelta(days=91))
        AccessFailureLog.objects.update(attempt_time=timezone.now() - timedelta(days=89))
        self.assertEqual((forget_old_records(), AdministrativeAct.objects.count()), (1, 0))
        self.assertGreater(AccessFailureLog.objects.count(), 0)

    def test_signing_out_and_another_password_end_every_session(self) -> None:
        one = self.signed_in("Orrel", Role.WORK)
        two = Client()
        two.post(reverse("accounts:sign-in"), {"username": "Orrel", "password": PASSWORD})
        new = "twelve bells and a tenor"
        sent = {"old_password": PASSWORD, "new_password1": new, "new_password2": new}
        self.assertEqual(one.post(reverse("accounts:password"), {**sent, "old_password": "no"}).status_code, 200)
        one.post(reverse("accounts:password"), sent)
        self.assertEqual((one.get("/").status_code, two.get("/").status_code), (200, 302))
        one.post(reverse("accounts:sign-out"))
        self.assertEqual(one.get("/").status_code, 302)

    def test_an_address_elsewhere_is_not_gone_to(self) -> None:
        make_account(name="Orrel", password=PASSWORD, role=Role.WORK)
        sent = {"username": "Orrel", "password": PASSWORD, "next": "https://evil.example/"}
        self.assertEqual(self.client.post(reverse("accounts:sign-in"), sent)["Location"], "/")


class KeepingTests(AccountCase):
    def test_the_first_is_made_here_alone_and_the_last_that_administers_stays(self) -> None:
        self.assertEqual(self.client.get("/")["Location"], "/accounts/first/?next=%2F")
        address = reverse("accounts:first")
        self.assertEqual(self.client.get(address, REMOTE_ADDR="192.0.2.7").status_code, 404)
        page = self.client.post(address, {"name": "Venning", "password": "password1234"}).content.decode()
        self.assertIn("too common", page)
        self.assertEqual(self.client.post(address, {"name": "Venning", "password": PASSWORD}).status_code, 302)
        self.assertEqual(self.client.get("/").status_code, 200, "signed in at once")
        self.assertEqual(self.client.get(address).status_code, 404)
        account = Account.objects.get()
        self.assertEqual(base.PASSWORD_HASHERS, ["django.contrib.auth.hashers.Argon2PasswordHasher"])
        for sent in ({"role": 2, "is_active": "on"}, {"role": 3}):
            page = self.client.post(reverse("accounts:change", args=[account.pk]), sent, follow=True).content.decode()
            self.assertIn("the only account that administers", page)
        self.client.post(reverse("accounts:add"), {"name": "Orrel", "password": PASSWORD, "role": 1})
        page = self.client.post(
            reverse("accounts:add"), {"name": "ORREL", "password": PASSWORD, "role": 1}, follow=True
        ).content.decode()
        self.assertIn("of the name ORREL already", page)
        other = Account.objects.get(name="Orrel")
        self.client.post(reverse("accounts:change", args=[other.pk]), {"role": 3})
        with self.assertRaises(AccountRefused):
            change_account(account=account, role=Role.WORK, is_active=True)
        self.client.post(reverse("accounts:change", args=[other.pk]), {"role": 3, "is_active": "on"})
        self.client.post(reverse("accounts:set-password", args=[other.pk]), {"password": "another " + PASSWORD})
        other.refresh_from_db()
        self.assertTrue(other.check_password("another " + PASSWORD))

    def test_by_command(self) -> None:
        secret = self.folder / "secret"
        secret.write_text(f"{PASSWORD}\n")

        def say(*words: str) -> str:
            out = io.StringIO()
            try:
                call_command("account", *words, stdout=out)
            except CommandError as error:
                return str(error)
            return out.getvalue()

        self.assertIn("has to administer", say("add", "Orrel", "--role", "work", "--password-file", str(secret)))
        self.assertIn("Venning: may administer", say("add", "Venning", "--password-file", str(secret)))
        self.assertIn("Orrel: may listen", say("add", "Orrel", "--role", "listen", "--password-file", str(secret)))
        self.assertIn("cannot sign in", say("off", "orrel"))
        self.assertIn("only account that administers", say("role", "Venning", "--role", "work"))
        self.assertIn("no account of the name", say("on", "Vaerle"))
        secret.write_text("short\n")
        self.assertIn("too short", say("password", "Orrel", "--password-file", str(secret)))

    def test_open_means_accounts_and_a_name(self) -> None:
        """From the environment: nothing but this machine's own addresses goes without."""
        for bind, is_open in (("", False), ("127.0.0.1", False), ("::1", False), ("localhost", False),
                              ("0.0.0.0", True), ("192.0.2.7", True), ("::", True), ("tower.example", True)):  # fmt: skip
            ours = read_environment(Path("/nowhere"), {"RUMBREL_BIND": bind, "RUMBREL_HOSTS": "a.example, b.example"})
            self.assertEqual((ours.is_open, ours.has_accounts), (is_open, is_open), bind)
            self.assertEqual(ours.hosts, ("a.example", "b.example"))
        outside = replace(settings.RUMBREL, bind="0.0.0.0")
        with self.assertRaisesRegex(CommandError, "there is no account that administers yet"):
            serve._see_that_it_may_open(outside)
        make_account(name="Venning", password=PASSWORD, role=Role.ADMINISTER)
        with self.assertRaisesRegex(CommandError, "RUMBREL_HOSTS="):
            serve._see_that_it_may_open(outside)
        serve._see_that_it_may_open(replace(outside, hosts=("tower.example",)))
        for bind, word in (("192.0.2.7", "no address of this machine"), ("no such place", "must be an address")):
            with self.assertRaisesRegex(CommandError, word):
                serve._port(bind)

    def test_the_deployment_check_is_clean(self) -> None:
        for https in ("", "1"):
            environment = {
                **os.environ, "RUMBREL_DATA": str(self.folder / "fresh"), "RUMBREL_HTTPS": https,
                "DJANGO_SETTINGS_MODULE": "rumbrel.web.settings.base",
            }  # fmt: skip
            manage = Path(__file__).resolve().parents[3] / "manage.py"
            words = [sys.executable, str(manage), "check", "--deploy", "--fail-level", "INFO"]
            ended = subprocess.run(words, env=environment, capture_output=True, text=True, timeout=600)
            self.assertEqual(ended.returncode, 0, ended.stderr)

    def test_headers_of_every_answer(self) -> None:
        make_account(name="Orrel", password=PASSWORD, role=Role.WORK)
        answer = self.client.get(reverse("accounts:sign-in"))
        for name, part in (
            ("Content-Security-Policy", "default-src 'none'"), ("X-Content-Type-Options", "nosniff"),
            ("Referrer-Policy", "same-origin"), ("Cross-Origin-Opener-Policy", "same-origin"),
            ("Cross-Origin-Resource-Policy", "same-origin"), ("Permissions-Policy", "camera=()"),
            ("X-Frame-Options", "DENY"),
        ):  # fmt: skip
            self.assertIn(part, answer.headers.get(name, ""), name)
        session = self.signed_in("Vaerle", Role.WORK).cookies["sessionid"]
        self.assertTrue(session["httponly"])
        self.assertEqual(session["samesite"], "Lax", "a link in a mail opens the page")
