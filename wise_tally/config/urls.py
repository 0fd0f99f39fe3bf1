"""All addresses: the six places and signing in."""

from django.urls import include, path

from wise_tally.config.api import api
from wise_tally.scope import pins, sign_in, typed

handler500 = "wise_tally.scope.gate.broken"
urlpatterns = [
    path("", sign_in.home, name="home"),
    path("sign-in/", sign_in.sign_in, name="sign-in"),
    path("sign-in/demo/", sign_in.demo_sign_in, name="demo-sign-in"),
    path("password/", sign_in.password, name="password"),
    path("pins/", pins.pin, name="pin"),
    path("reconcile/", pins.page, name="reconcile"),
    path("typed/", typed.typed, name="typed"),
    path("sign-out/", sign_in.sign_out, name="sign-out"),
    path("api/", api.urls),
    path("tokens/", include("wise_tally.exchange.api.urls")),
    path("forecast/", include("wise_tally.forecast.urls")),
    path("deals/", include("wise_tally.deal_pages.urls")),
    path("customers/", include("wise_tally.customers.urls")),
    path("", include("wise_tally.desk.urls")),
    path("conversion/", include("wise_tally.conversion.urls")),
    path("attainment/", include("wise_tally.attainment.urls")),
    path("team/", include("wise_tally.team.urls")),
    path("setup/imports/", include("wise_tally.exchange.urls")),
    path("setup/", include("wise_tally.setup.urls")),
]
