"""Random edits of deals through the pages, as people make them."""

from datetime import timedelta

from wise_tally.domain.deals.actions import last_revision
from wise_tally.domain.deals.models import Deal
from wise_tally.domain.org import clock


class Clock:
    """The one clock of the application, moved by hand."""

    def __init__(self, monkeypatch, start):
        self.at = start
        monkeypatch.delenv("WISE_TALLY_TODAY")
        hands = self

        class Moved(clock.datetime):
            @classmethod
            def now(cls, tz=None):
                """The moment the hands show."""
                return hands.at.astimezone(tz)

        monkeypatch.setattr(clock, "datetime", Moved)

    def later(self, **span):
        """Let time pass."""
        self.at += timedelta(**span)


class Editor:
    """Somebody who changes random deals of a random world through the pages."""

    def __init__(self, client, random, clock):
        self.client, self.random, self.clock = client, random, clock

    def change(self, deal):
        """One random change of a deal; returns the revision it made, or None where nothing changed."""
        last, random = last_revision(deal), self.random
        typed = {"revision": last.pk, "closing": "yes", "lost_reason": random.choice(("Price", "Timing"))}
        typed |= {"competitor": random.choice(("", "Orlo")), "past_meant": "yes", "next": "/deals/"}
        if last.effective_at.date() < self.clock.at.date() and random.random() < 0.3:
            typed["closed_on"] = (self.clock.at.date() - timedelta(days=1)).isoformat()
        name, value = random.choice(
            (
                ("amount", f"{random.randrange(1, 90_000)}.{random.randrange(100):02}"),
                ("stage", random.choice(("s1", "s2", "s3", "w", "l"))),
                ("category", random.choice(("commit", "early", "left_out", ""))),
                ("expected_close", (self.clock.at.date() + timedelta(days=random.randrange(-30, 200))).isoformat()),
                ("probability", random.choice(("", "35", "80"))),
            )
        )
        answer = self.client.post(f"/deals/{deal.key}/change/", typed | {"edited": name, name: value})
        assert answer.status_code in (302, 422), answer.content[:500]
        made = last_revision(deal)
        return made if made.pk != last.pk else None

    def put_back(self, deal):
        """Put the deal's last change back."""
        answer = self.client.post(f"/deals/{deal.key}/revert/", {"revision": last_revision(deal).pk})
        assert answer.status_code == 302, answer.content[:500]

    def any_deal(self):
        """A deal of the world, the first and the last ones often."""
        keys = list(Deal.objects.order_by("pk").values_list("key", flat=True))
        return Deal.objects.get(key=self.random.choice([*keys, keys[0], keys[-1]]))
