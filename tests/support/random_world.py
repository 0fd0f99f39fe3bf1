"""Random workspaces: every dated history, splits, short forms, reopened and backward deals."""

from datetime import date, datetime, timedelta
from random import Random

from tests.support.world import World, moment

START = date(2024, 1, 1)
STAGES = ("s1", "s2", "s3", "w", "l")


def random_world(seed: int, deals: int = 60) -> World:
    """A workspace of the given seed, always the same."""
    random, world = Random(seed), World()
    world.tables["stages"][1] |= {
        "own_probability": random.choice(("true", "false")),
        "retired": random.choice(("true", "")),
    }
    world.tables["people"].append({"person_id": "d", "name": "D", "role": "rep"})
    world.add("memberships", person_id="c", team_id="t2", from_on="2024-01-01")
    world.add("memberships", person_id="c", team_id="t1", from_on=_day(random))
    world.add("team_parents", team_id="t2", parent_id="t1", from_on="2024-01-01")
    world.add("team_parents", team_id="t2", from_on=_day(random))
    world.add("territory_parents", territory_id="y", parent_id="x", from_on="2024-01-01")
    world.add("territory_parents", territory_id="y", from_on=_day(random))
    for day, probability in (("2024-01-01", 15), (_day(random), 35)):
        category = random.choice(("early", None))
        world.add("stage_rules", stage_id="s1", effective_at=moment(day), probability=probability, category_id=category)
    world.tables["stage_rules"].sort(key=lambda row: row["effective_at"])
    for number in range(deals):
        _deal(random, world, f"d{number:03}")
    return world


def _day(random: Random) -> str:
    return (START + timedelta(days=random.randrange(1, 700))).isoformat()


def _deal(random: Random, world: World, key: str) -> None:
    created = datetime.combine(START, datetime.min.time()) + timedelta(seconds=random.randrange(700 * 86_400))
    columns = {"deal_type": random.choice(("new", "old", None)), "source": random.choice(("fair", "web", None))}
    common = {"deal_id": key, "name": key, "process_id": "p", "created_at": f"{created.isoformat()}+00:00", **columns}
    if random.random() < 0.15:
        _short(random, world, common, created)
        return
    world.add("deals", **common)
    at = created
    for _ in range(random.randint(1, 6)):
        world.add(
            "deal_revisions",
            deal_id=key,
            effective_at=f"{at.isoformat()}+00:00",
            stage_id=random.choice(STAGES),
            amount=_amount(random),
            expected_close=random.choice((_day(random), None)),
            owner_id=random.choice("abcd"),
            territory_id=random.choice(("x", "y", None)),
            category_id=random.choice(("commit", "early", "left_out", None, None)),
            probability=random.choice(("33.33", "50", None, None)),
            void=random.choice(("true", None, None, None, None)) if at != created else None,
        )
        at += timedelta(seconds=random.choice((0, 86_400, random.randrange(90 * 86_400))))
    if random.random() < 0.25:
        for from_on in (None, _day(random)):
            first = random.choice((1, 25, 33.33, 50))
            pair = random.sample("abcd", 2)
            world.add("deal_credits", deal_id=key, person_id=pair[0], share=first, from_on=from_on)
            world.add("deal_credits", deal_id=key, person_id=pair[1], share=round(100 - first, 2), from_on=from_on)


def _short(random: Random, world: World, common: dict, created: datetime) -> None:
    stage = random.choice(STAGES)
    closed = created + timedelta(seconds=random.randrange(60 * 86_400)) if stage in "wl" else None
    world.add(
        "deals",
        **common,
        stage_id=stage,
        amount=_amount(random),
        owner_id=random.choice("abcd"),
        expected_close=random.choice((_day(random), None)),
        territory_id=random.choice(("y", None)),
        closed_at=f"{closed.isoformat()}+00:00" if closed else None,
        lost_from_stage_id=random.choice(("s2", None)) if stage == "l" else None,
    )


def _amount(random: Random) -> str:
    return f"{random.randrange(100_000)}.{random.randrange(100):02}"
