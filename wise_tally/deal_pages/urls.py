"""Addresses of deals."""

from django.urls import path

from wise_tally.deal_pages import views

app_name = "deals"
urlpatterns = [
    path("", views.page, name="page"),
    path("table.<str:kind>", views.table, name="table"),
    path("<str:key>/", views.deal, name="deal"),
    path("<str:key>/change/", views.change, name="change"),
]
