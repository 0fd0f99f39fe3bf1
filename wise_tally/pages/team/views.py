"""Dashboards: shown, arranged, opened to others, on the wall and as a pack to print."""

from dataclasses import dataclass
from typing import Any

from django.contrib import messages
from django.http import Http404, HttpResponse
from django.shortcuts import redirect, render
from django.urls import reverse
from django.utils.safestring import SafeString
from django.views.decorators.http import require_POST, require_safe

from wise_tally.core.answers.forecast import Stake, of_dashboard
from wise_tally.core.attainment import AttainmentRow
from wise_tally.core.breakdowns import grouping
from wise_tally.core.forecast import forecast_lines
from wise_tally.core.number_reader import whole_number
from wise_tally.core.outcome import stakes
from wise_tally.core.trees import NONE
from wise_tally.domain.dashboards.actions import (
    ALL,
    arrange,
    audiences_of,
    dashboards_of,
    make_dashboard,
    set_dashboard,
    take_dashboard_away,
    tallies_of,
)
from wise_tally.domain.dashboards.models import Dashboard
from wise_tally.domain.org.access import May
from wise_tally.domain.org.clock import now
from wise_tally.domain.org.models import Role, Team
from wise_tally.domain.org.preference_actions import preference, set_preference
from wise_tally.pages.team.headlines import headlines
from wise_tally.pages.team.tallies.shipped import BOARDS, FIRST_BOARD, SHIPPED
from wise_tally.pages.team.tallies.tiles import Tile, tiles_of
from wise_tally.web.answers import answer_sentence, span_of, workings
from wise_tally.web.deal_rows import names_of
from wise_tally.web.filter_line import FilterLine, read_scope
from wise_tally.web.footer import Footer
from wise_tally.web.nodes import scope_node, whole_attainment
from wise_tally.web.request.refusals import Refused
from wise_tally.web.request.viewing import PageRequest

START = "team.start"
# The dashboard that this sign-in took away last, so that it can be undone.
AWAY = "board_away"
CROWDED = 8
MOST_OF_A_PACK = 24
WALL_SECONDS = 30


@dataclass(frozen=True)
class Board:
    """A dashboard to show, shipped or saved (`saved` is then its record)."""

    key: str
    name: str
    placed: list[tuple[str, bool]]
    saved: Dashboard | None = None

    @property
    def is_crowded(self) -> bool:
        """Whether it has more tallies than can be read well."""
        return len(self.placed) > CROWDED


def teams_of(request: PageRequest, line: FilterLine) -> list[str]:
    """Identifiers of the viewer's own team and those above it, and of the teams managed."""
    viewer, reference = request.viewer, line.book.reference
    own = reference.person_index.get(viewer.key, NONE)
    team = reference.team_of(own, line.today.toordinal()) if own != NONE else NONE
    path = reference.team_tree(line.today).paths[team] if team != NONE else ()
    return [*(reference.teams[i].key for i in path), *viewer.managed_teams]


def boards_of(request: PageRequest, line: FilterLine) -> dict[str, Board]:
    """The dashboards of the viewer by identifier, kept ones first."""
    saved = dashboards_of(request.viewer, teams_of(request, line)).prefetch_related("tiles")
    boards = {
        board.key: Board(
            board.key, board.name, [(t.tally, t.wide) for t in sorted(board.tiles.all(), key=lambda t: t.place)], board
        )
        for board in saved
    }
    return boards | {key: Board(key, one.name, list(one.tiles)) for key, one in BOARDS.items() if key not in boards}


def _chosen(request: PageRequest, line: FilterLine, boards: dict[str, Board]) -> Board:
    """The dashboard asked for, else one's start page, else that of one's team, role or all, else the first shipped."""
    key = request.GET.get("board") or preference(request.viewer, START)
    if key in boards:
        return boards[key]
    if request.GET.get("board"):
        raise Refused(f"Dashboard “{key[:60]}” not found. Choose one of: {', '.join(list(boards)[:12])}.", 404)
    starts = {board.saved.audience: board for board in boards.values() if board.saved and board.saved.starts}
    # The nearest team goes before the role, the role before all.
    wanted = audiences_of(request.viewer, teams_of(request, line))
    for audience in reversed(wanted):
        if audience in starts:
            return starts[audience]
    return boards[FIRST_BOARD]


@require_safe
def page(request: PageRequest) -> HttpResponse:
    """One dashboard with its tiles."""
    line = read_scope(request)
    boards = boards_of(request, line)
    board = _chosen(request, line, boards)
    return render(request, "team/page.html", _context(request, line, board, boards))


def _context(request: PageRequest, line: FilterLine, board: Board, boards: dict[str, Board]) -> dict[str, Any]:
    viewer = request.viewer
    whole = whole_attainment(line)
    own = board.saved is not None and (board.saved.owner.key == viewer.key or viewer.may(May.SET_ORGANISATION))
    arranging = own and request.GET.get("arrange") == "yes"
    placed = {key for key, _ in board.placed}
    return {
        "answer_sentence": _answer(line, whole),
        "headlines": headlines(request, line, whole),
        "board": board,
        "boards": [(one, f"{line.query()}&board={one.key}", one.key == board.key) for one in boards.values()],
        "tiles": tiles_of(request, line, board.placed),
        "away": request.session.get(AWAY, {}).get("name", ""),
        "own": own,
        "arranging": arranging,
        "addable": _addable(request, placed) if arranging else [],
        "audiences": _audiences() if arranging and viewer.may(May.SET_RULES) else [],
        "is_start": preference(viewer, START) == board.key,
        "query": f"{line.query()}&board={board.key}",
        "footer": Footer(
            whole.forecast.deals_won + whole.forecast.deals_open,
            undated=whole.forecast.undated,
            overdue=whole.forecast.overdue,
        ),
    }


def _answer(line: FilterLine, whole: AttainmentRow) -> SafeString:
    """What is still to win in the period, in how many days, and the deal that holds most of it."""
    by, _, token = scope_node(line)
    _, rows, amounts = stakes(forecast_lines(line.book, line.snapshot, line.period, line.scope, by))
    holding, opens = [], workings("forecast:working", f"{line.query()}&node={token}", "won", "gap", "attainment")
    if len(rows):
        largest = int(amounts.argmax())
        deal = int(line.snapshot.deal[rows[largest]])
        key = line.book.deals.key[deal]
        holding = [Stake(names_of(line.book, [deal]).get(key, key), int(amounts[largest]), None, None)]
        opens["deal"] = f"{reverse('deals:deal', args=[key])}?{line.query()}"
    return answer_sentence(of_dashboard(span_of(line), whole.forecast.won, whole.forecast.quota, holding), opens)


def _addable(request: PageRequest, placed: set[str]) -> list[tuple[str, str]]:
    """Tallies that are not on the dashboard yet: kept ones, then shipped ones."""
    saved = [(tally.key, tally.name) for tally in tallies_of(request.viewer)]
    return [one for one in [*saved, *((key, tally.name) for key, tally in SHIPPED.items())] if one[0] not in placed]


def _audiences() -> list[tuple[str, str]]:
    """For whom a dashboard may be."""
    roles = [(f"role:{value}", f"every {label}") for value, label in Role.choices]
    teams = [(f"team:{key}", name) for key, name in Team.objects.order_by("name").values_list("key", "name")]
    return [("", "only me"), (ALL, "everyone"), *roles, *teams]


def _own_board(request: PageRequest, key: str) -> Dashboard:
    line = read_scope(request)
    board = boards_of(request, line).get(key)
    if board is None or board.saved is None:
        raise Http404
    return board.saved


def _back(request: PageRequest, key: str, arrange_on: bool = True) -> HttpResponse:
    line = read_scope(request)
    more = "&arrange=yes" if arrange_on else ""
    return redirect(f"{reverse('team:page')}?{line.query()}&board={key}{more}")


@require_POST
def start(request: PageRequest, key: str) -> HttpResponse:
    """Begin with this dashboard, or no longer."""
    line = read_scope(request)
    if key not in boards_of(request, line):
        raise Http404
    set_preference(request.viewer, START, key if request.POST.get("start") == "yes" else "")
    return _back(request, key, arrange_on=False)


@require_POST
def copy(request: PageRequest, key: str) -> HttpResponse:
    """A copy of one's own to change."""
    line = read_scope(request)
    board = boards_of(request, line).get(key)
    if board is None:
        raise Http404
    name = request.POST.get("name", "").strip() or f"{board.name}, mine"
    made = make_dashboard(request.viewer, name, board.placed, now())
    messages.success(request, f"“{made.name}” was created. You can now edit its layout.")
    return _back(request, made.key)


@require_POST
def new(request: PageRequest) -> HttpResponse:
    """An empty dashboard of one's own, or the one that was just taken away."""
    away = request.session.pop(AWAY, None) if request.POST.get("what") == "put back" else None
    name, tiles = (
        (away["name"], [tuple(tile) for tile in away["tiles"]]) if away else (request.POST.get("name", ""), [])
    )
    made = make_dashboard(request.viewer, name, tiles, now())
    return _back(request, made.key)


@require_POST
def change(request: PageRequest, key: str) -> HttpResponse:
    """Order, width, adding, taking off; all of it is a new arrangement of the tiles."""
    board, what = _own_board(request, key), request.POST.get("what", "order")
    placed = [(tile.tally, tile.wide) for tile in board.tiles.order_by("place")]
    tally = request.POST.get("tally", "")
    if what == "add" and tally not in {one for one, _ in _addable(request, {key for key, _ in placed})}:
        raise Http404
    arranged = _arranged(placed, what, tally, request.POST.get("order", ""))
    arrange(request.viewer, board, arranged, whole_number(request.POST.get("number", "")), now())
    return _back(request, key)


def _arranged(placed: list[tuple[str, bool]], what: str, tally: str, order: str) -> list[tuple[str, bool]]:
    """The tiles after one change; raises Refused for one that is not accepted."""
    keys = [key for key, _ in placed]
    if what == "add":
        return [*placed, (tally, False)]
    if what == "order":
        wanted = order.split(",")
        if sorted(wanted) != sorted(keys):
            raise Refused("The dashboard has changed in the meantime. Reload the page.", 422)
        return [placed[keys.index(key)] for key in wanted]
    if tally not in keys:
        raise Refused("This report is no longer on the dashboard. Reload the page.", 422)
    index = keys.index(tally)
    if what == "off":
        return [one for one in placed if one[0] != tally]
    if what == "wide":
        return [(key, not wide if key == tally else wide) for key, wide in placed]
    step = {"before": -1, "after": 1}.get(what)
    if step is None:
        raise Refused(f"“{what[:20]}” is not valid. Choose one of: order, add, off, wide, before, after.")
    to = min(max(index + step, 0), len(placed) - 1)
    moved = [one for one in placed if one[0] != tally]
    return [*moved[:to], placed[index], *moved[to:]]


@require_POST
def settings(request: PageRequest, key: str) -> HttpResponse:
    """Name, for whom, whether they begin with it; or take the dashboard away."""
    board, viewer = _own_board(request, key), request.viewer
    if request.POST.get("what") == "away":
        placed = list(board.tiles.order_by("place").values_list("tally", "wide"))
        request.session[AWAY] = {"name": board.name, "tiles": placed}
        take_dashboard_away(viewer, board, now())
        return redirect(f"{reverse('team:page')}?{read_scope(request).query()}")
    audience = request.POST.get("audience", board.audience)
    set_dashboard(viewer, board, request.POST.get("name", ""), audience, request.POST.get("starts") == "yes", now())
    messages.success(request, "The dashboard was saved.")
    return _back(request, key)


@require_safe
def wall(request: PageRequest) -> HttpResponse:
    """Dashboards full screen, one after another: the address names them, the page turns by itself."""
    line = read_scope(request)
    boards = boards_of(request, line)
    wanted = [key for key in dict.fromkeys(request.GET.getlist("boards")) if key in boards] or list(boards)
    index = (whole_number(request.GET.get("place", "")) or 0) % len(wanted)
    named = "&".join(f"boards={key}" for key in wanted)
    board = boards[wanted[index]]
    answer = {
        "board": board,
        "tiles": tiles_of(request, line, board.placed),
        "turns": f"{reverse('team:wall')}?{line.query()}&{named}&place={index + 1}",
        "stop": f"{reverse('team:page')}?{line.query()}&board={board.key}",
        "seconds": WALL_SECONDS,
        "at": index + 1,
        "of": len(wanted),
    }
    return render(request, "team/wall.html", answer)


@require_safe
def pack(request: PageRequest) -> HttpResponse:
    """Dashboards one below another, each on a page of its own when printed."""
    line = read_scope(request)
    boards = boards_of(request, line)
    keys = [key for key in dict.fromkeys(request.GET.getlist("boards")) if key in boards]
    wanted = [boards[key] for key in keys] or list(boards.values())
    if len(wanted) > MOST_OF_A_PACK:
        raise Refused(f"{len(wanted)} dashboards are too many for one pack. Choose up to {MOST_OF_A_PACK}.")
    packed: list[tuple[Board, list[Tile]]] = [(board, tiles_of(request, line, board.placed)) for board in wanted]
    answer = {
        "packed": packed,
        "organisation": grouping(line.book, "company", line.as_of).names[0],
        "footer": Footer(sum(len(tiles) for _, tiles in packed), what="report"),
    }
    return render(request, "team/pack.html", answer)
