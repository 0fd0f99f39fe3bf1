"""A package as it was at the end of a day: what happened later is taken out, what has no date stays as it is."""

import csv
import io
import json
from datetime import date

# By table the moment or day of each row; rows of later ones are taken out.
HAPPENED = {
    "deals": "created_at",
    "deal_revisions": "effective_at",
    "leads": "created_at",
    "notes": "at",
    "calls": "made_at",
    "invoices": "issued_on",
    "orders": "ordered_on",
}
OF_DEALS = ("deal_credits", "deal_lines", "deal_details", "deal_contacts", "payments")


def cut_package(source, target, day):
    """Write to `target` what the package in `source` would have been at the end of `day` (of a time zone near Greenwich's)."""

    def later(text):
        return bool(text) and (date.fromisoformat(text[:10]) > day)

    target.mkdir()
    tables = {
        path.stem: list(csv.DictReader(io.StringIO(path.read_text(encoding="utf-8")))) for path in source.glob("*.csv")
    }
    for name, column in HAPPENED.items():
        tables[name] = [row for row in tables[name] if not later(row[column])]
    deals = {row["deal_id"] for row in tables["deals"]}
    leads = {row["lead_id"] for row in tables["leads"]}
    for name in OF_DEALS:
        tables[name] = [row for row in tables[name] if row["deal_id"] in deals]
    tables["field_values"] = [row for row in tables["field_values"] if row["subject_id"] in deals]
    tables["lead_details"] = [row for row in tables["lead_details"] if row["lead_id"] in leads]
    tables["lead_moves"] = [row for row in tables["lead_moves"] if row["lead_id"] in leads and not later(row["at"])]
    last = {row["lead_id"]: row["step_id"] for row in sorted(tables["lead_moves"], key=lambda row: row["at"])}
    for row in tables["lead_details"]:
        row["step_id"] = last.get(row["lead_id"], "")
    # What is planned has no day on which it was planned: it stays, where what it is about is there.
    tables["activities"] = [
        row
        for row in tables["activities"]
        if (row["status"] == "planned" or not later(row["at"]))
        and row["deal_id"] in (deals | {""})
        and row["lead_id"] in (leads | {""})
    ]
    for row in tables["leads"]:
        if later(row["closed_at"]):
            row |= {"closed_at": "", "deal_id": "", "status": "working"}
            for more in tables["lead_details"]:
                more["dropped_because"] *= more["lead_id"] != row["lead_id"]
    for row in tables["invoices"]:
        row["paid_on"] = "" if later(row["paid_on"]) else row["paid_on"]
    for name, rows in tables.items():
        with (target / f"{name}.csv").open("w", newline="", encoding="utf-8") as file:
            out = csv.DictWriter(file, list(rows[0]))
            out.writeheader()
            out.writerows(rows)
    kept = json.loads((source / "workspace.json").read_text())
    kept["meetings"] = [one for one in kept["meetings"] if not later(one["held_on"])]
    kept["agreed_actions"] = [
        one | {"done_on": None if later(one["done_on"]) else one["done_on"]}
        for one in kept["agreed_actions"]
        if not later(one["agreed_on"])
    ]
    (target / "workspace.json").write_text(json.dumps(kept))
    (target / "datapackage.json").write_text((source / "datapackage.json").read_text())
    return target
