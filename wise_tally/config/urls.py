"""All addresses: the six places and signing in."""

from django.urls import include, path

from wise_tally.interfaces.api.assembled import api
from wise_tally.pages.deals import calendar_feed
from wise_tally.web import parts, picking
from wise_tally.web.request import sign_in, typed_again
from wise_tally.web.request.old_addresses import old_addresses
from wise_tally.web.working import pins

handler500 = "wise_tally.web.request.gate.broken"
urlpatterns = [
    path("", sign_in.home, name="home"),
    path("sign-in/", sign_in.sign_in, name="sign-in"),
    path("sign-in/demo/", sign_in.demo_sign_in, name="demo-sign-in"),
    path("password/", sign_in.password, name="password"),
    path("pins/", pins.pin, name="pin"),
    path("pick/<str:part>/", picking.pick, name="pick"),
    path("names/<str:kind>/", picking.names, name="names"),
    path("compare/", pins.page, name="reconcile"),
    path("parts/", parts.page, name="parts"),
    path("typed/", typed_again.typed, name="typed"),
    path("sign-out/", sign_in.sign_out, name="sign-out"),
    path("api/", api.urls),
    path("calendar/<str:token>.ics", calendar_feed.feed, name="calendar-feed"),
    path("tokens/", include("wise_tally.pages.setup.token_urls")),
    path("forecast/", include("wise_tally.pages.forecast.urls")),
    path("deals/", include("wise_tally.pages.deals.urls")),
    path("customers/", include("wise_tally.pages.deals.customers.urls")),
    path("", include("wise_tally.pages.deals.today.urls")),
    path("conversion/", include("wise_tally.pages.conversion.urls")),
    path("attainment/", include("wise_tally.pages.attainment.urls")),
    path("brief/", include("wise_tally.pages.brief.urls")),
    path("team/", include("wise_tally.pages.team.urls")),
    path("setup/imports/", include("wise_tally.pages.setup.imports.urls")),
    path("setup/", include("wise_tally.pages.setup.urls")),
    *old_addresses,
]
