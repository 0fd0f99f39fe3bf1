"""Reads of deals that several actions share."""

from django.db.models import Exists, OuterRef, QuerySet

from wise_tally.deals.models import DealRevision


def last_revisions() -> QuerySet[DealRevision]:
    """The revision in effect of every deal: the last that is not void."""
    later = DealRevision.objects.filter(deal=OuterRef("deal"), void=False, pk__gt=OuterRef("pk"))
    return DealRevision.objects.filter(~Exists(later), void=False)
