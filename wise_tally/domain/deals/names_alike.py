"""Names that likely mean the same customer, found among all of a firm's at once."""

import re
from collections import Counter, defaultdict
from dataclasses import dataclass
from functools import lru_cache

from rapidfuzz import fuzz, process

ALIKE = 80
SAME_BUT_SLIPS = 92
MOST_SLIPS = 2
# Words of a name without case and signs; single letters are passed over.
WORD = re.compile(r"[^\W_]{2,}")


@dataclass(frozen=True)
class _Names:
    """Names by their words: each name's, without spaces, and in which names each word stands."""

    words: list[list[str]]
    joined: list[str]
    holding: dict[str, list[int]]


@lru_cache(maxsize=4)
def _read(names: tuple[str, ...]) -> _Names:
    """Those of a firm are the same from one page to the next."""
    words = [_words(name) for name in names]
    holding = defaultdict(list)
    for index, own in enumerate(words):
        for word in own:
            holding[word].append(index)
    return _Names(words, ["".join(own) for own in words], holding)


def names_alike(name: str, others: tuple[str, ...]) -> dict[int, float]:
    """By index which of other names are like one, and how much, 80 to 100: every word of the shorter name has one like it in the
    longer, or both differ by a slip or two where their spaces are left out.
    """
    wanted, names = _words(name), _read(others)
    like = {word for one in wanted for word, *_ in _like(one, list(names.holding), ALIKE)}
    shared = Counter(index for word in like for index in names.holding[word])
    scores = {
        index: _alike(wanted, names.words[index])
        for index, count in shared.items()
        if count >= min(len(wanted), len(names.words[index]))
    }
    joined = "".join(wanted)
    for text, ratio, index in _like(joined, names.joined, SAME_BUT_SLIPS):
        if abs(len(joined) - len(text)) <= MOST_SLIPS and joined[0] == text[0]:
            scores[index] = max(ratio, scores.get(index, 0))
    return {index: ratio for index, ratio in scores.items() if ratio >= ALIKE}


def _words(name: str) -> list[str]:
    return WORD.findall(name.casefold())


def _like(text: str, among: list[str], least: int) -> list[tuple[str, float, int]]:
    """Texts that are like one, 100 for the same, with their indices."""
    return process.extract(text, among, scorer=fuzz.ratio, score_cutoff=least, limit=None) if text else []


def _alike(one: list[str], other: list[str]) -> float:
    """How like the least like word of the shorter name is to its best counterpart; 0 for one without a counterpart."""
    shorter, longer = sorted((one, other), key=len)
    if len(longer) - len(shorter) > len(shorter):
        return 0
    least, left = 100.0, list(longer)
    for word in sorted(shorter, key=len, reverse=True):
        _, ratio, index = process.extractOne(word, left, scorer=fuzz.ratio)
        if ratio < ALIKE:
            return 0
        del left[index]
        least = min(least, ratio)
    return least
