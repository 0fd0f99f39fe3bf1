"""Addresses of the tokens' page."""

from django.urls import path

from wise_tally.pages.setup import tokens

urlpatterns = [
    path("", tokens.page, name="tokens"),
    path("<int:number>/away/", tokens.away, name="token-away"),
]
