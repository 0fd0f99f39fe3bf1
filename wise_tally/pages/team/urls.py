"""Addresses of team."""

from django.urls import path

import wise_tally.pages.team.pins
import wise_tally.web.request.addresses  # noqa: F401 - registers the "key" part of addresses
from wise_tally.pages.team import contact_gap, deals_by_rep, one_to_one, this_week, views
from wise_tally.pages.team.tallies import views as tallies

app_name = "team"
urlpatterns = [
    path("", views.page, name="page"),
    path("wall/", views.wall, name="wall"),
    path("pack/", views.pack, name="pack"),
    path("dashboards/", views.new, name="new"),
    path("dashboards/<key:key>/start/", views.start, name="start"),
    path("dashboards/<key:key>/copy/", views.copy, name="copy"),
    path("dashboards/<key:key>/change/", views.change, name="change"),
    path("dashboards/<key:key>/settings/", views.settings, name="settings"),
    path("report/", tallies.page, name="tally"),
    path("report/keep/", tallies.save, name="save-tally"),
    path("report/working/", tallies.working, name="tally-working"),
    path("report/table.<str:kind>", tallies.table, name="tally-table"),
    path("saved-reports/", tallies.saved_reports, name="tallies"),
    path("saved-reports/<key:key>/", tallies.change, name="change-tally"),
    path("this-week/", this_week.page, name="week"),
    path("this-week/table.<str:kind>", this_week.table, name="week-table"),
    path("this-week/working/<str:figure>/", this_week.working, name="week-working"),
    path("deals-by-rep/", deals_by_rep.page, name="open"),
    path("deals-by-rep/working/", deals_by_rep.working, name="open-working"),
    path("deals-by-rep/table.<str:kind>", deals_by_rep.table, name="open-table"),
    path("one-to-ones/", one_to_one.people, name="one-to-ones"),
    path("one-to-ones/<key:key>/", one_to_one.page, name="one-to-one"),
    path("one-to-ones/<key:key>/notes/", one_to_one.notes, name="notes"),
    path("one-to-ones/<key:key>/agreed/<key:action>/", one_to_one.tick, name="tick"),
    path("contact-gaps/", contact_gap.page, name="gaps"),
    path("contact-gaps/working/", contact_gap.working, name="gaps-working"),
    path("contact-gaps/table.<str:kind>", contact_gap.table, name="gaps-table"),
]
