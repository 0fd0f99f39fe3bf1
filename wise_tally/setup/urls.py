"""Addresses of setup."""

from django.urls import path

from wise_tally.setup import views

app_name = "setup"
urlpatterns = [
    path("", views.page, name="page"),
    path("stages/<str:process>/", views.stages, name="stages"),
    path("stages/<str:process>/move/", views.move, name="move"),
    path("quotas/", views.quotas, name="quotas"),
]
