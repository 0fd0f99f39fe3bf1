"""Addresses of the brief."""

from django.urls import path

import wise_tally.web.request.addresses  # noqa: F401 - registers the "key" part of addresses
from wise_tally.pages.brief import acting, bounds, earlier, mail, views

app_name = "brief"
urlpatterns = [
    path("", views.page, name="page"),
    path("table.<str:kind>", views.table, name="table"),
    path("findings/", views.everything, name="findings"),
    path("working/", views.working, name="working"),
    path("put-aside/", acting.put_aside, name="put-aside"),
    path("take-back/", acting.take_back, name="take-back"),
    path("agree/", acting.agree, name="agree"),
    path("keep/", acting.keep, name="keep"),
    path("kept/", earlier.page, name="kept-briefs"),
    path("kept/<key:key>/", earlier.one, name="kept"),
    path("by-mail/", mail.page, name="mail"),
    path("unsubscribe/<str:token>/", mail.unsubscribe, name="unsubscribe"),
    path("bounds/", bounds.page, name="bounds"),
]
