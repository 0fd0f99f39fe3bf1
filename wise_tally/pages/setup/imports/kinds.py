"""What can be brought in from other tables: for each kind its columns, their other names, and what stands in for them."""

import re
from dataclasses import dataclass, field, replace

from wise_tally.core.number_reader import NumberStyle
from wise_tally.domain.deals.models import OwnField
from wise_tally.package.tables import TABLES, Column
from wise_tally.web.files.uploads import UploadedTable


@dataclass(frozen=True)
class Kind:
    """A kind of import: `columns` of the package's table that may be matched, `also` other headings they go by.

    `details` names the table that holds further columns of the same rows; `own` are the firm's own fields as columns
    with their names in words.
    """

    slug: str
    title: str
    columns: tuple[str, ...]
    needed: tuple[str, ...]
    also: dict[str, str]
    details: str = ""
    own: dict[str, tuple[Column, str]] = field(default_factory=dict)

    def column(self, name: str) -> Column:
        """The column of that name in the package."""
        if name in self.own:
            return self.own[name][0]
        tables = [TABLES[table] for table in (self.slug, self.details) if table]
        return next(column for table in tables for column in table.columns if column.name == name)

    def words(self, name: str) -> str:
        """A column in words."""
        if name in self.own:
            return self.own[name][1]
        return name.removesuffix("_id").replace("_", " ") if name != "subject_id" else "node"


ALSO = {
    "deal_id": "id deal opportunity number",
    "quantity": "pieces units count",
    "discount": "rebate",
    "share": "split percent credit",
    "from_on": "from since",
    "every": "interval",
    "account_id": "account customer company organisation client",
    "contact_id": "contact",
    "person_id": "id person",
    "product_id": "product article item",
    "activity_id": "id activity",
    "invoice_id": "id invoice number",
    "order_id": "id order number",
    "lead_id": "id lead",
    "deal_type": "type",
    "owner_id": "owner rep salesperson",
    "team_id": "team department",
    "stage_id": "stage status phase",
    "process_id": "process pipeline",
    "territory_id": "territory region area",
    "category_id": "category",
    "partner_id": "partner reseller",
    "subject_id": "identifier node who",
    "amount": "value total sum price money",
    "expected_close": "close closing",
    "created_at": "created date opened",
    "closed_at": "closed",
    "unit_price": "price",
    "unit_cost": "cost",
    "name": "title subject",
    "email": "mail e-mail",
    "starts_on": "start from month",
    "ends_on": "end to until",
    "value": "target quota amount",
    "at": "date when time",
    "issued_on": "issued date",
    "due_on": "due",
    "paid_on": "paid",
    "ordered_on": "ordered date",
    "ships_on": "ships delivery",
    "job_title": "job function position",
    "customer": "company organisation firm",
    "phone": "telephone mobile tel",
    "next_step_on": "step",
    "competitor": "competition",
}


def _kind(slug: str, title: str, columns: str, needed: str, details: str = "") -> Kind:
    names = tuple(columns.split())
    return Kind(slug, title, names, tuple(needed.split()), {name: ALSO.get(name, "") for name in names}, details)


KINDS = {
    kind.slug: kind
    for kind in (
        _kind("accounts", "Accounts", "account_id name kind territory_id owner_id industry country", "name"),
        _kind("contacts", "Contacts", "contact_id account_id name email phone job_title", "account_id name"),
        _kind("people", "People", "person_id name email role team_id active_from active_to commission_rate", "name"),
        _kind("products", "Products", "product_id name product_group unit_price unit_cost", "name"),
        _kind(
            "deals",
            "Deals",
            "deal_id name process_id stage_id amount owner_id expected_close created_at closed_at account_id contact_id"
            " territory_id category_id probability deal_type source campaign partner_id next_step next_step_on competitor"
            " lost_reason",
            "name stage_id amount owner_id",
            "deal_details",
        ),
        _kind(
            "deal_lines",
            "Products of deals",
            "deal_id product_id quantity unit_price unit_cost discount",
            "deal_id product_id quantity unit_price",
        ),
        _kind("payments", "Payments of deals", "deal_id due_on amount every times", "deal_id due_on amount"),
        _kind("deal_credits", "Credit splits", "deal_id person_id share from_on", "deal_id person_id share"),
        _kind(
            "leads",
            "Leads",
            "lead_id name customer email phone source owner_id created_at status step_id campaign score closed_at"
            " dropped_because",
            "name",
            "lead_details",
        ),
        _kind(
            "activities",
            "Activities",
            "activity_id kind at status person_id account_id deal_id lead_id subject",
            "kind at",
        ),
        _kind(
            "invoices",
            "Invoices",
            "invoice_id account_id issued_on due_on amount paid_on product_group product_id",
            "account_id issued_on amount",
        ),
        _kind(
            "orders",
            "Orders",
            "order_id account_id ordered_on ships_on amount product_group product_id open",
            "account_id ordered_on amount",
        ),
        _kind(
            "quotas",
            "Quotas",
            "subject subject_id metric starts_on ends_on value product_group deal_type source activity_kind",
            "subject starts_on value",
        ),
    )
}
# Kinds whose records may have the firm's own fields, as these call them.
WITH_OWN = {"deals": "deal", "accounts": "account", "leads": "lead"}
OWN_KINDS = {"number": "number", "date": "date"}
DATE_FORMS = {
    "ymd": ("2026-11-23", ("%Y-%m-%d", "%Y/%m/%d", "%Y%m%d")),
    "dmy": ("23/11/2026 or 23.11.2026", ("%d/%m/%Y", "%d.%m.%Y", "%d-%m-%Y")),
    "mdy": ("11/23/2026", ("%m/%d/%Y", "%m-%d-%Y")),
}
# Form: example, and how a column of it is read: nothing else is a number there.
NUMBER_FORMS = {
    "plain": ("1250.00 or 1 250.00", NumberStyle(".", " ")),
    "comma": ("1,250.00", NumberStyle(".", ",")),
    "point": ("1.250,00", NumberStyle(",", ".")),
    "space": ("1 250,00", NumberStyle(",", " ")),
}
NUMERIC = ("money", "signed_money", "number", "percent", "days")
IDENTIFIER = {"id", "identifier", "number", "no", "key", "code"}


def kind_of(slug: str) -> Kind:
    """A kind with the firm's own fields, as they are now."""
    kind, fields = KINDS[slug], OwnField.objects.offered().filter(applies_to=WITH_OWN.get(slug, "")).order_by("name")
    own = {}
    for one in fields:
        name = f"own:{one.key}"
        own[name] = (Column(name, OWN_KINDS.get(one.kind, "text"), False, name), one.name)
    return replace(kind, columns=(*kind.columns, *own), also=kind.also | dict.fromkeys(own, ""), own=own)


def guess(kind: Kind, header: list[str]) -> dict[str, str]:
    """Our column → a heading of the file that most likely means it; each heading is used once, needed columns first."""
    headings: dict[str, str] = {}
    order = sorted(kind.columns, key=lambda name: name not in kind.needed)
    for exact in (True, False):
        for name in (name for name in order if name not in headings):
            free = [heading for heading in header if heading and heading not in headings.values()]
            heading = next((h for h in free if _means(kind, name, h, exact)), None)
            if heading is not None:
                headings[name] = heading
    return headings


def _means(kind: Kind, name: str, heading: str, exact: bool) -> bool:
    words = _words(heading)
    ours = set(name.removesuffix("_on").removesuffix("_at").split("_")) - {"id"}
    if name in kind.own:
        return words == _words(kind.words(name))
    if heading.casefold() in (name, name.replace("_", " ")):
        return True
    if name == kind.columns[0] and kind.column(name).kind == "id":
        # A heading such as “Deal” is the deal's name; its identifier says so.
        return bool(words & IDENTIFIER) and words <= ours | IDENTIFIER
    others = set(kind.also[name].split())
    if name == "name":
        others |= set(kind.also[kind.columns[0]].split()) | {kind.title.casefold().removesuffix("s")}
    return words == ours if exact else bool(ours <= words or words & (others - IDENTIFIER))


def _words(text: str) -> set[str]:
    letters = "".join(c if c.isalnum() or c == "-" else " " for c in text.casefold())
    return set(letters.split()) - {"the", "of"}


def guess_forms(kind: Kind, columns: dict[str, str], table: UploadedTable) -> tuple[str, str]:
    """Forms of dates and numbers that all rows of the matched columns speak for."""
    kinds = {name: kind.column(name).kind for name in columns}
    samples: dict[str, list[str]] = {"date": [], "number": []}
    for name, heading in columns.items():
        of = "date" if kinds[name] in ("date", "moment") else "number" if kinds[name] in NUMERIC else ""
        if of:
            index = table.header.index(heading)
            samples[of] += [cells[index].strip() for _, cells in table.rows if cells[index].strip()]
    return _date_form(samples["date"]), _number_form(samples["number"])


def _date_form(samples: list[str]) -> str:
    parts = [re.split(r"[/.\-]", text.split("T")[0].split(" ")[0]) for text in samples]
    parts = [p for p in parts if len(p) == 3 and all(x.isdigit() for x in p) and len(p[2]) == 4]
    if not parts:
        return "ymd"
    return "mdy" if any(int(p[1]) > 12 for p in parts) and all(int(p[0]) <= 12 for p in parts) else "dmy"


def _number_form(samples: list[str]) -> str:
    """The mark that stands last before one or two digits, or twice over, distinguishes decimal from thousands."""
    for text in samples:
        marks = [sign for sign in text if sign in ".,"]
        if len(set(marks)) == 2:
            return "comma" if marks[-1] == "." else "point"
        if len(marks) > 1:
            return "comma" if marks[0] == "," else "point"
    if any(re.search(r",\d{1,2}$", text) for text in samples):
        return "space" if any(" " in text for text in samples) else "point"
    if any(re.search(r",\d{3}$", text) for text in samples):
        return "comma"
    return "plain"
