"""Queries whose SQL is written once, and addresses that are known, against what Django makes anew
each time."""

from django.db import connection
from django.db.models import Count
from django.template import Context, Template
from django.test import TestCase
from django.test.utils import CaptureQueriesContext
from django.urls import reverse

from web.jobs.models import Job
from web.shows.history import create_shot
from web.shows.models import Shot, Show
from web.ui.prepared import Prepared


class Queries(TestCase):
    def setUp(self):
        show = Show.objects.create(name="The Lantern Tide", slug="tide")
        self.one, self.two = create_shot(show, "LT901"), create_shot(show, "LT902")
        for shot, kind in ((self.one, "render"), (self.one, "flash"), (self.two, "render")):
            Job.objects.create(shot=shot, kind=kind)

    def test_each_run_has_its_own_values_and_what_is_there_now(self):
        jobs = Prepared(lambda shot, kind: Job.objects.filter(shot=shot, kind=kind))
        self.assertEqual([row.shot_id for row in jobs(self.one.pk, "render")], [self.one.pk])
        self.assertEqual([row.kind for row in jobs(self.one.pk, "flash")], ["flash"])
        self.assertEqual(jobs(self.two.pk, "flash"), [])
        newer = Job.objects.create(shot=self.two, kind="flash")
        self.assertEqual(jobs.first(self.two.pk, "flash"), newer)
        newer.delete()
        self.assertIsNone(jobs.first(self.two.pk, "flash"))
        with self.assertRaises(Job.DoesNotExist):
            jobs.get(self.two.pk, "flash")

    def test_rows_are_whole_with_what_is_fetched_along(self):
        shots = Prepared(lambda show, code: Shot.objects.with_head().filter(show=show, code=code))
        for code in ("LT901", "LT902", "LT901"):
            (found,) = shots(self.one.show_id, code)
            like = Shot.objects.with_head().get(code=code)
            with self.assertNumQueries(0):
                self.assertEqual(found.head, like.head)
                self.assertEqual(found.show.name, like.show.name)
                self.assertEqual(found.created, like.created)
                self.assertEqual(found.head.parts, like.head.parts)

    def test_what_isn_t_a_model_and_values_in_several_places(self):
        counted = Prepared(
            lambda kind: (
                Job.objects.filter(kind=kind)
                .order_by("shot")
                .values("shot")
                .annotate(count=Count("pk"))
            )
        )
        Job.objects.create(shot=self.two, kind="render")
        rows = [{"shot": self.one.pk, "count": 1}, {"shot": self.two.pk, "count": 2}]
        self.assertEqual(counted("render"), rows)
        either = Prepared(lambda a, b: Job.objects.filter(kind__in=[a, b]).values_list("kind"))
        self.assertEqual(sorted(either("flash", "flash")), [("flash",)])

    def test_the_sql_is_written_once_and_what_is_looked_for_isn_t_in_it(self):
        built = []

        def build(kind):
            built.append(kind)
            return Job.objects.filter(kind=kind)

        jobs = Prepared(build)
        with CaptureQueriesContext(connection) as queries:
            jobs("x' OR '1'='1")
            jobs("flash")
        self.assertEqual(len(built), 1)
        self.assertEqual(len(queries), 2)
        self.assertEqual(jobs("x' OR '1'='1"), [])

    def test_a_value_that_the_query_changes_is_refused(self):
        with self.assertRaisesRegex(ValueError, "value 0"):
            Prepared(lambda kind: Job.objects.filter(kind__contains=kind))("flash")


class Addresses(TestCase):
    def test_they_are_django_s_own(self):
        page = Template("{% url 'plate' show code %} {% url 'show' show as to %}{{ to }}")
        for show, code in (("tide", "LT901"), ("tide", "LT902"), ("tide", "LT901")):
            seen = page.render(Context({"show": show, "code": code}))
            self.assertEqual(
                seen, f"{reverse('plate', args=[show, code])} {reverse('show', args=[show])}"
            )

    def test_they_are_escaped_where_the_page_is(self):
        page = "{% url 'handoff-file' 'tide' 'LT901' kind %}"
        plain = "{% autoescape off %}" + page + "{% endautoescape %}"
        address = reverse("handoff-file", args=["tide", "LT901", "a'b"])
        self.assertIn("a'b", address)
        for text, wanted in ((page, address.replace("'", "&#x27;")), (plain, address)):
            self.assertEqual(Template(text).render(Context({"kind": "a'b"})), wanted)
