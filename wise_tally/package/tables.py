"""The tables of a package: columns, kinds, references and where each is kept."""

from dataclasses import dataclass

from django.db import models as orm

from wise_tally.domain.deals import models as deals
from wise_tally.domain.org import models as org
from wise_tally.domain.process import models as process
from wise_tally.domain.targets import models as targets

SUBJECTS = ("company", "team", "person", "territory", "partner")
ACTIVITY_KINDS = ("phone", "meeting", "mail", "site_visit", "task", "web_visit")


@dataclass(frozen=True)
class Column:
    """A column of a table; a leading `*` of the short notation marks it required.

    Kinds: id, name, text, ref, word, whole, flag, percent, money, signed_money, number, days, date, moment.
    """

    name: str
    kind: str
    required: bool
    attribute: str
    target: str = ""
    words: tuple[str, ...] = ()
    late: bool = False


@dataclass(frozen=True)
class Table:
    """One CSV file: its model, columns, the columns that identify a row and those it is sorted by."""

    name: str
    model: type[orm.Model] | None
    columns: tuple[Column, ...]
    unique: tuple[str, ...] = ()
    order: tuple[str, ...] = ()
    # Rows of a deal in the package replace those it had; `more_of` names the table whose rows this one adds columns to.
    of_deal: bool = False
    more_of: str = ""

    @property
    def path(self) -> str:
        """The file's name in the package."""
        return f"{self.name}.csv"

    @property
    def has_key(self) -> bool:
        """Whether its rows are identified by an identifier."""
        return self.columns[0].kind == "id"

    def column(self, name: str) -> Column:
        """The column of that name."""
        return next(column for column in self.columns if column.name == name)


ATTRIBUTES = {"percent": "{}_bp", "money": "{}_minor", "signed_money": "{}_minor", "days": "{}_hundredths"}


def _column(text: str, table: str) -> Column:
    """Read `name:kind[:argument]`; `*` marks required, `!` a reference filled in after all rows are there."""
    required, late = text.startswith("*"), text.endswith("!")
    name, kind, *rest = text.strip("*!").split(":")
    argument = rest[0] if rest else ""
    attribute = ATTRIBUTES.get(kind, "{}").format(name)
    if kind == "id":
        attribute = "key"
    elif kind == "ref":
        attribute = name if name.endswith("_id") else f"{name}_id"
    if name == "subject_id":
        attribute = "subject_key"
    if table == "quotas" and name == "value":
        attribute = "value"
    words = tuple(argument.split("|")) if kind == "word" else ()
    return Column(name, kind, required, RENAMED.get((table, name), attribute), argument, words, late)


RENAMED = {
    ("deals", "lost_from_stage_id"): "lost_from_id",
    ("deal_lines", "quantity"): "quantity_10000ths",
}


def _table(name: str, model: type[orm.Model] | None, columns: str, unique: str = "", order: str = "") -> Table:
    parsed = tuple(_column(text, name) for text in columns.split())
    unique_columns = tuple(unique.split()) or ((parsed[0].name,) if parsed[0].kind == "id" else ())
    of_deal = name in ("deal_revisions", "deal_credits", "deal_lines", "payments", "deal_contacts")
    more_of = {"deal_details": "deals", "lead_details": "leads"}.get(name, "")
    return Table(name, model, parsed, unique_columns, tuple(order.split()) or unique_columns, of_deal, more_of)


SUBJECT = f"*subject:word:{'|'.join(SUBJECTS)} subject_id:text"
TABLES = {
    table.name: table
    for table in (
        _table("settings", org.Workspace, "*key:text *value:text", "key"),
        _table("categories", process.Category, "*category_id:id *name:name *rank:whole *counted:flag"),
        _table("processes", process.Process, "*process_id:id *name:name retired:flag"),
        _table(
            "stages",
            process.Stage,
            "*stage_id:id *process_id:ref:processes *name:name *position:whole *kind:word:open|won|lost *probability:percent"
            " category_id:ref:categories typical_days:days own_probability:flag required:flag retired:flag",
        ),
        _table(
            "stage_rules",
            process.StageRule,
            "*stage_id:ref:stages *effective_at:moment *probability:percent category_id:ref:categories typical_days:days",
            "stage_id effective_at",
        ),
        _table("teams", org.Team, "*team_id:id *name:name parent_id:ref:teams! manager_id:ref:people! retired:flag"),
        _table(
            "people",
            org.Person,
            "*person_id:id *name:name email:text role:word:admin|manager|rep|viewer team_id:ref:teams"
            " active_from:date active_to:date commission_rate:percent",
        ),
        _table(
            "memberships",
            org.Membership,
            "*person_id:ref:people *team_id:ref:teams *from_on:date",
            "person_id from_on",
        ),
        _table(
            "team_parents", org.TeamParent, "*team_id:ref:teams parent_id:ref:teams *from_on:date", "team_id from_on"
        ),
        _table(
            "commission_rates",
            org.CommissionRate,
            "*subject:word:person|partner *subject_id:text *from_on:date *rate:percent",
            "subject subject_id from_on",
        ),
        _table("territories", org.Territory, "*territory_id:id *name:name parent_id:ref:territories! retired:flag"),
        _table(
            "territory_parents",
            org.TerritoryParent,
            "*territory_id:ref:territories parent_id:ref:territories *from_on:date",
            "territory_id from_on",
        ),
        _table(
            "products",
            deals.Product,
            "*product_id:id *name:name product_group:text unit_price:money unit_cost:money retired:flag",
        ),
        _table(
            "partners",
            deals.Partner,
            "*partner_id:id *name:name kind:text territory_id:ref:territories commission_rate:percent retired:flag",
        ),
        _table(
            "accounts",
            deals.Account,
            "*account_id:id *name:name kind:word:organisation|person territory_id:ref:territories owner_id:ref:people"
            " industry:text country:text",
        ),
        _table(
            "contacts",
            deals.Contact,
            "*contact_id:id *account_id:ref:accounts *name:name email:text phone:text job_title:text",
        ),
        _table(
            "deals",
            deals.Deal,
            "*deal_id:id *name:name *process_id:ref:processes *created_at:moment account_id:ref:accounts"
            " contact_id:ref:contacts partner_id:ref:partners deal_type:text source:text campaign:text next_step:text"
            " stage_id:ref:stages amount:money owner_id:ref:people expected_close:date territory_id:ref:territories"
            " category_id:ref:categories probability:percent lost_reason:text closed_at:moment"
            " lost_from_stage_id:ref:stages",
        ),
        _table(
            "deal_revisions",
            deals.DealRevision,
            "*deal_id:ref:deals *effective_at:moment *stage_id:ref:stages *amount:money expected_close:date"
            " *owner_id:ref:people territory_id:ref:territories category_id:ref:categories probability:percent"
            " lost_reason:text changed_by:text reason:text void:flag",
            order="deal_id",
        ),
        _table(
            "deal_credits",
            deals.DealCredit,
            "*deal_id:ref:deals *person_id:ref:people *share:percent from_on:date",
            "deal_id person_id from_on",
            "deal_id from_on person_id",
        ),
        _table(
            "deal_lines",
            deals.DealLine,
            "*deal_id:ref:deals *product_id:ref:products *quantity:number *unit_price:money unit_cost:money"
            " discount:percent",
            order="deal_id",
        ),
        _table(
            "payments",
            deals.Payment,
            "*deal_id:ref:deals *due_on:date *amount:money every:word:month|quarter|year times:whole",
            order="deal_id due_on",
        ),
        _table(
            "deal_details",
            deals.Deal,
            "*deal_id:ref:deals next_step_on:date competitor:name amount_from_lines:flag",
            "deal_id",
        ),
        _table(
            "deal_contacts",
            deals.DealContact,
            "*deal_id:ref:deals *contact_id:ref:contacts *role:name",
            "deal_id contact_id",
        ),
        _table(
            "lead_steps",
            process.LeadStep,
            "*lead_step_id:id *name:name *position:whole typical_days:days retired:flag",
        ),
        _table(
            "leads",
            deals.Lead,
            "*lead_id:id *name:name source:text owner_id:ref:people *created_at:moment"
            " status:word:new|working|qualified|dropped deal_id:ref:deals closed_at:moment",
        ),
        _table(
            "lead_details",
            deals.Lead,
            "*lead_id:ref:leads customer:name email:name phone:name dropped_because:name step_id:ref:lead_steps campaign:name"
            " score:whole",
            "lead_id",
        ),
        _table(
            "lead_moves",
            deals.LeadMove,
            "*lead_id:ref:leads *step_id:ref:lead_steps *at:moment by:text",
            "lead_id step_id at",
        ),
        _table(
            "quotas",
            targets.Quota,
            f"{SUBJECT} *metric:word:won_amount|won_deals|margin|quantity|activities *starts_on:date *ends_on:date"
            f" *value:number product_group:text deal_type:text source:text activity_kind:word:{'|'.join(ACTIVITY_KINDS)}"
            " set_at:moment",
            "subject subject_id metric product_group deal_type source activity_kind starts_on ends_on set_at",
        ),
        _table(
            "calls",
            targets.Call,
            f"{SUBJECT} *starts_on:date *ends_on:date *made_at:moment *made_by:ref:people *amount:money reason:text",
            "subject subject_id starts_on ends_on made_by made_at",
        ),
        _table(
            "activities",
            deals.Activity,
            f"*activity_id:id *kind:word:{'|'.join(ACTIVITY_KINDS)} *at:moment status:word:done|planned"
            " person_id:ref:people account_id:ref:accounts deal_id:ref:deals lead_id:ref:leads subject:text"
            " repeat:word:week|two_weeks|month|quarter",
        ),
        _table(
            "notes",
            deals.Note,
            "*note_id:id *at:moment person_id:ref:people account_id:ref:accounts deal_id:ref:deals lead_id:ref:leads"
            " *text:text",
        ),
        _table(
            "invoices",
            deals.Invoice,
            "*invoice_id:id *account_id:ref:accounts *issued_on:date *due_on:date *amount:signed_money paid_on:date"
            " product_group:text product_id:ref:products",
        ),
        _table(
            "fields",
            deals.OwnField,
            "*field_id:id *applies_to:word:deal|account|lead *name:name *kind:word:choice|text|number|date choices:text"
            " retired:flag",
        ),
        _table(
            "field_values",
            deals.OwnFieldValue,
            "*field_id:ref:fields *subject_id:text *value:text",
            "field_id subject_id",
        ),
        _table(
            "orders",
            deals.Order,
            "*order_id:id *account_id:ref:accounts *ordered_on:date ships_on:date *amount:money product_group:text"
            " product_id:ref:products *open:flag",
        ),
    )
}
STATE_COLUMNS = (
    "stage_id",
    "amount",
    "owner_id",
    "expected_close",
    "territory_id",
    "category_id",
    "probability",
    "lost_reason",
)
CLOSING_COLUMNS = ("closed_at", "lost_from_stage_id")
