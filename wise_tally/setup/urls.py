"""Addresses of setup."""

from django.urls import path

import wise_tally.ui.addresses  # noqa: F401 - registers the "key" part of addresses
from wise_tally.setup import views
from wise_tally.setup.quotas import views as quotas
from wise_tally.setup.stages import views as stages

app_name = "setup"
urlpatterns = [
    path("", views.page, name="page"),
    path("processes/", stages.processes, name="processes"),
    path("stages/<key:process>/", stages.stages, name="stages"),
    path("stages/<key:process>/move/", stages.move, name="move"),
    path("stages/<key:process>/add/", stages.add, name="add-stage"),
    path("stages/<key:process>/retire/", stages.retire, name="retire"),
    path("stages/<key:process>/<key:stage>/", stages.stage, name="stage"),
    path("quotas/", quotas.quotas, name="quotas"),
]
