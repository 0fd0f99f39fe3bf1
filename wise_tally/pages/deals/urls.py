"""Addresses of deals."""

from django.urls import path

import wise_tally.web.request.addresses  # noqa: F401 - registers the "key" part of addresses
from wise_tally.pages.deals import chance, more_views, parts, saved, views, workings

app_name = "deals"
urlpatterns = [
    path("", views.page, name="page"),
    path("working/<str:figure>/", workings.of_list, name="list-figure"),
    path("table.<str:kind>", views.table, name="table"),
    path("saved-views/", saved.views, name="views"),
    path("columns-of-the-list/", views.choose_columns, name="columns"),
    path("new-deal/", more_views.new_deal, name="new"),
    path("<key:key>/", views.deal, name="deal"),
    path("<key:key>/working/<str:figure>/", workings.of_deal, name="figure"),
    path("<key:key>/chance/", chance.working, name="chance-working"),
    path("<key:key>/change/", views.change, name="change"),
    path("<key:key>/revert/", views.revert, name="revert"),
    path("<key:key>/part/<str:name>/", parts.part, name="part"),
    path("<key:key>/put-back/", parts.put_back, name="put-back"),
    path("<key:key>/files/", more_views.add_files, name="files"),
    path("<key:key>/files/<key:file_key>/", more_views.file, name="file"),
    path("<key:key>/quote/", more_views.quote, name="quote"),
    path("<key:key>/tick/", more_views.tick, name="tick"),
]
