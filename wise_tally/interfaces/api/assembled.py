"""The read-only interface, put together from the places that answer it."""

from math import ceil

from django.conf import settings
from django.core.exceptions import PermissionDenied
from django.http import HttpResponse
from ninja import NinjaAPI
from ninja.errors import AuthenticationError, HttpError, Throttled, ValidationError

from wise_tally.core.errors import CoreError
from wise_tally.interfaces.api.deals import router as deals
from wise_tally.interfaces.api.figures import router as figures
from wise_tally.interfaces.api.tallies import router as tallies
from wise_tally.interfaces.question import OptionRefused
from wise_tally.interfaces.shared import OfAToken, Token, TokenAsPassword
from wise_tally.web.request.refusals import Refused
from wise_tally.web.request.viewing import PageRequest

of_a_token = OfAToken(settings.API_RATE)
api = NinjaAPI(
    title="Wise Tally",
    version="1.0.0",
    description="Figures, tallies and deals as they stood on any day, read-only. Tokens are personal and show what their person sees.",
    auth=[Token(), TokenAsPassword()],
    throttle=[of_a_token],
    docs_url=None,
    urls_namespace="api",
)
api.add_router("/figures", figures)
api.add_router("/deals", deals)
api.add_router("/tallies", tallies)


def _problem(request: PageRequest, message: str, status: int) -> HttpResponse:
    return api.create_response(request, {"detail": message}, status=status)


@api.exception_handler(ValidationError)
def _invalid(request: PageRequest, error: ValidationError) -> HttpResponse:
    faults = (f"{'.'.join(str(part) for part in fault['loc'][1:])}: {fault['msg']}" for fault in error.errors)
    return _problem(request, "; ".join(faults), 422)


@api.exception_handler(AuthenticationError)
def _unknown(request: PageRequest, error: AuthenticationError) -> HttpResponse:
    answer = _problem(request, "An API token is required. Send the header “Authorization: Bearer TOKEN”.", 401)
    answer["WWW-Authenticate"] = "Bearer"
    return answer


@api.exception_handler(Refused)
def _refused(request: PageRequest, error: Refused) -> HttpResponse:
    return _problem(request, str(error), error.status if error.status == 404 else 422)


@api.exception_handler(OptionRefused)
@api.exception_handler(CoreError)
def _not_accepted(request: PageRequest, error: Exception) -> HttpResponse:
    return _problem(request, str(error), 422)


@api.exception_handler(PermissionDenied)
def _denied(request: PageRequest, error: PermissionDenied) -> HttpResponse:
    return _problem(request, str(error), 403)


@api.exception_handler(Throttled)
def _too_many(request: PageRequest, error: Throttled) -> HttpResponse:
    wait = ceil(error.wait or 1)
    answer = _problem(request, f"Too many requests with this token. Try again in {wait} seconds.", 429)
    answer["Retry-After"] = str(wait)
    return answer


@api.exception_handler(HttpError)
def _http(request: PageRequest, error: HttpError) -> HttpResponse:
    return _problem(request, str(error), error.status_code)
