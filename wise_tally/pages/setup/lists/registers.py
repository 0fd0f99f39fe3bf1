"""What lists setup keeps: title, form, columns, how an entry is saved and taken away."""

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from django.db import models, transaction

from wise_tally.book.store import books
from wise_tally.domain.deals.list_actions import TEXTS, in_use, remove_named, save_named
from wise_tally.domain.deals.models import OwnField, OwnFieldValue, Partner, Product
from wise_tally.domain.formats import bare, day, money, plural
from wise_tally.domain.org.access import May, Viewer, has_left
from wise_tally.domain.org.clock import today
from wise_tally.domain.org.models import Person, Team, Territory
from wise_tally.domain.org.people_actions import remove_person, save_person
from wise_tally.domain.org.pick_lists import PickListEntry
from wise_tally.domain.org.records import InUse, save_record, take_away
from wise_tally.domain.org.sign_in_actions import end_sign_in
from wise_tally.domain.process.models import Category, DealType, LeadStep, LostReason, Source
from wise_tally.domain.targets.actions import require_untargeted
from wise_tally.domain.targets.leaving import end_targets
from wise_tally.domain.targets.renaming import rename_in_targets, require_no_targets
from wise_tally.pages.setup.lists import forms

Save = Callable[[Viewer, str | None, Mapping[str, Any], datetime, str], Any]
Remove = Callable[[Viewer, str, datetime], None]


@dataclass(frozen=True)
class Register:
    """One list: `columns` are headings with what stands there, `order` the fields it is sorted by."""

    slug: str
    title: str
    one: str
    intro: str
    model: type[models.Model]
    form: type[forms.RecordForm]
    columns: tuple[tuple[str, Callable[[Any], object]], ...]
    keep: Save
    remove: Remove
    order: tuple[str, ...] = ("name",)
    right: May = May.SET_RULES
    # The field that holds an entry's place, where people put them in order.
    order_field: str = ""

    @property
    def by_text(self) -> bool:
        """Whether deals carry the entry's name as text."""
        return self.model in TEXTS

    @property
    def retires(self) -> bool:
        """Whether entries can be retired."""
        return issubclass(self.model, PickListEntry)

    @property
    def records(self) -> list[Any]:
        """All entries in the order of the page, retired ones last."""
        order = ("retired", *self.order) if self.retires else self.order
        return list(self.model._default_manager.order_by(*order))

    def uses(self) -> dict[str, int]:
        """How many deals and leads carry each name."""
        return in_use(self.model) if self.by_text else {}


def _plain(model: type[models.Model], right: May = May.SET_RULES, subject: str = "") -> tuple[Save, Remove]:
    """Saving and taking away; `subject` is what quotas call such a node."""

    def save(viewer: Viewer, key: str | None, values: Mapping[str, Any], now: datetime, expected: str) -> Any:
        return save_record(viewer, model, key, values, now, expected, right)

    def remove(viewer: Viewer, key: str, now: datetime) -> None:
        viewer.require(right)
        if subject:
            require_untargeted(subject, key, key)
        take_away(viewer, model, key, now, right)

    return save, remove


def _named(model: type[models.Model], of_targets: str = "") -> tuple[Save, Remove]:
    """The same for entries whose names deals carry, and targets in the column `of_targets`."""

    @transaction.atomic
    def save(viewer: Viewer, key: str | None, values: Mapping[str, Any], now: datetime, expected: str) -> Any:
        before = model._default_manager.filter(key=key or "").values_list("name", flat=True).first()
        record = save_named(viewer, model, key, values, now, expected)
        if of_targets and before and before != values["name"]:
            rename_in_targets(viewer, of_targets, before, values["name"], now)
        return record

    @transaction.atomic
    def remove(viewer: Viewer, key: str, now: datetime) -> None:
        name = model._default_manager.values_list("name", flat=True).get(key=key)
        remove_named(viewer, model, key, now)
        if of_targets:
            require_no_targets(of_targets, name)

    return save, remove


def _remove_field(viewer: Viewer, key: str, now: datetime) -> None:
    viewer.require(May.SET_RULES)
    count = OwnFieldValue.objects.filter(field__key=key).count()
    if count:
        raise InUse(
            f"The field is used {plural(count, 'time')}. Only fields without values can be deleted; retire it instead."
        )
    take_away(viewer, OwnField, key, now)


@transaction.atomic
def _save_person(
    viewer: Viewer, key: str | None, values: Mapping[str, Any], now: datetime, expected: str = ""
) -> Person:
    """Save a person; a new last day ends their targets."""
    before = Person.objects.filter(key=key).values_list("active_to", flat=True).first() if key else None
    person = save_person(viewer, key, values, now, expected)
    if person.active_to and person.active_to != before:
        end_targets(viewer, books.current().reference, person.key, person.active_to, now)
    if has_left(person, today()):
        end_sign_in(viewer, person, now)
    return person


def _remove_person(viewer: Viewer, key: str, now: datetime) -> None:
    viewer.require(May.SET_ORGANISATION)
    require_untargeted("person", key, key)
    remove_person(viewer, Person.objects.get(key=key), now)


REGISTERS = {
    register.slug: register
    for register in (
        Register(
            "categories",
            "Forecast categories",
            "category",
            "How certain an open deal is. Rank 1 is the most certain. Categories marked “not included” are not part of the forecast.",
            Category,
            forms.CategoryForm,
            (("rank", lambda c: c.rank), ("in the forecast", lambda c: "included" if c.counted else "not included")),
            *_plain(Category),
            order=("rank",),
            order_field="rank",
        ),
        Register(
            "deal-types",
            "Deal types",
            "deal type",
            "Types of deals, grouped, such as new business and existing customers. Renaming changes all deals.",
            DealType,
            forms.DealTypeForm,
            (("group", lambda t: t.group),),
            *_named(DealType, "deal_type"),
            order=("group", "name"),
        ),
        Register(
            "sources",
            "Sources",
            "source",
            "Where leads and deals come from. Renaming changes all leads and deals.",
            Source,
            forms.SourceForm,
            (),
            *_named(Source, "source"),
        ),
        Register(
            "lead-steps",
            "Steps of leads",
            "step",
            "The way of a lead until it is qualified, such as new, tried, reached, meeting agreed. New leads begin with the first.",
            LeadStep,
            forms.LeadStepForm,
            (("order", lambda s: s.position), ("typical days", lambda s: bare(s.typical_days_hundredths))),
            *_plain(LeadStep),
            order=("position",),
            order_field="position",
        ),
        Register(
            "lost-reasons",
            "Loss reasons",
            "loss reason",
            "Why deals are lost. Renaming does not change deals already lost.",
            LostReason,
            forms.LostReasonForm,
            (),
            *_named(LostReason),
        ),
        Register(
            "own-fields",
            "Custom fields",
            "field",
            "Fields you add to deals, accounts and leads.",
            OwnField,
            forms.OwnFieldForm,
            (
                ("on", lambda f: f"{f.applies_to}s"),
                ("kind", lambda f: f.kind),
                ("choices", lambda f: f.choices.replace(";", ", ")),
            ),
            _plain(OwnField)[0],
            _remove_field,
            order=("applies_to", "name"),
        ),
        Register(
            "products",
            "Products",
            "product",
            "Products with group, unit price and unit cost.",
            Product,
            forms.ProductForm,
            (
                ("group", lambda p: p.product_group),
                ("price", lambda p: money(p.unit_price_minor)),
                ("cost", lambda p: money(p.unit_cost_minor)),
            ),
            *_plain(Product),
            order=("product_group", "name"),
        ),
        Register(
            "partners",
            "Partners",
            "partner",
            "Resellers and consultants who bring in deals.",
            Partner,
            forms.PartnerForm,
            (
                ("kind", lambda p: p.kind),
                ("territory", lambda p: p.territory.name if p.territory else ""),
            ),
            *_plain(Partner, subject="partner"),
        ),
        Register(
            "teams",
            "Teams",
            "team",
            "Teams and their managers. Change the hierarchy on the People and teams page.",
            Team,
            forms.TeamForm,
            (("manager", lambda t: t.manager.name if t.manager else ""),),
            *_plain(Team, May.SET_ORGANISATION, "team"),
            right=May.SET_ORGANISATION,
        ),
        Register(
            "territories",
            "Territories",
            "territory",
            "Territories. Change the hierarchy on the Territories page.",
            Territory,
            forms.TerritoryForm,
            (),
            *_plain(Territory, May.SET_ORGANISATION, "territory"),
            right=May.SET_ORGANISATION,
        ),
        Register(
            "people",
            "People",
            "person",
            "Everyone who owns deals, manages or views figures, with first and last working day.",
            Person,
            forms.PersonForm,
            (
                ("role", lambda p: p.get_role_display()),
                ("first day", lambda p: day(p.active_from) if p.active_from else ""),
                ("last day", lambda p: day(p.active_to) if p.active_to else ""),
                ("can sign in", lambda p: "yes" if p.user_id else "no"),
            ),
            _save_person,
            _remove_person,
            right=May.SET_ORGANISATION,
        ),
    )
}
