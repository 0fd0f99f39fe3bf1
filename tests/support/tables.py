"""Every table file of every page, found by walking the pages as a person would."""

import gc
import html
import re
from functools import _lru_cache_wrapper
from urllib.parse import parse_qsl, urlencode, urlsplit

from django.urls import URLPattern, URLResolver, get_resolver

from wise_tally.book.store import books

# What a page's links may choose that is no other table: the scope, the page of a list, an arrangement of columns.
PASSING = {"page", "next", "as_of", "period", "open", "name"}
# The audit tells what was done, whatever it came to.
LEFT_OUT = ("/setup/audit/",)
MOST_VARIANTS = 40


def table_pages():
    """The page before each table file that is about nothing in particular."""
    found = []

    def walk(entries, before):
        for entry in entries:
            path = before + str(entry.pattern)
            if isinstance(entry, URLResolver):
                walk(entry.url_patterns, path)
            elif isinstance(entry, URLPattern) and path.endswith("table.<str:kind>") and path.count("<") == 1:
                found.append("/" + path.removesuffix("table.<str:kind>"))

    walk(get_resolver().url_patterns, "")
    return sorted(set(found) - set(LEFT_OUT))


def _links(text, path):
    """Queries of a page's links to itself, and addresses of its table files."""
    queries, files = set(), set()
    for match in re.findall(r'href="([^"]+)"', text):
        parts = urlsplit(html.unescape(match))
        query = urlencode([(k, v) for k, v in parse_qsl(parts.query) if k not in PASSING])
        if parts.path.endswith("table.csv"):
            files.add(f"{parts.path}?{query}")
        elif parts.path in ("", path):
            queries.add(query)
    return queries, files


def every_table(client):
    """Addresses of all table files that links of the pages lead to: each page as it opens and in each of its variants."""
    found = set()
    for path in table_pages():
        variants, files = _links(client.get(path).content.decode(), path)
        found |= files
        for query in sorted(variants)[:MOST_VARIANTS]:
            answer = client.get(f"{path}?{query}")
            assert answer.status_code in (200, 302, 404), (path, query)
            found |= _links(answer.content.decode(), path)[1]
    return sorted(found)


def some_tables(client, random, number):
    """Addresses of table files that somebody comes across: a page drawn at random, one of its variants, one of the files there."""
    found, paths = set(), table_pages()
    while len(found) < number:
        path = random.choice(paths)
        variants, _ = _links(client.get(path).content.decode(), path)
        query = random.choice(["", *sorted(variants)])
        _, files = _links(client.get(f"{path}?{query}").content.decode(), path)
        found |= set(random.sample(sorted(files), min(1, len(files))))
    return sorted(found)


def contents(client, addresses, days):
    """Each file as of each day."""
    found = {}
    for address in addresses:
        for day in days:
            answer = client.get(f"{address}&as_of={day}")
            assert answer.status_code in (200, 400, 404, 422), (address, day, answer.content[:300])
            # A day on which a table cannot be asked for is refused then and later.
            found[address, day] = answer.content if answer.status_code == 200 else answer.status_code
    return found


def fresh_process():
    """Forget what a new process would not know."""
    books.forget()
    for one in gc.get_objects():
        if type(one) is _lru_cache_wrapper:
            one.cache_clear()


def differing(before, after):
    """Addresses and days whose files differ."""
    return [key for key in before if before[key] != after[key]]


def figures_of(client, paths, day):
    """The texts of all figures of pages as of a day, in their order."""
    found = {}
    for path in paths:
        answer = client.get(f"{path}?as_of={day}&period=FY2027-Q3")
        assert answer.status_code == 200, path
        text = answer.content.decode()
        found[path, day] = re.findall(r'class="open-figure[^"]*"[^>]*>([^<]*)<', text)
    return found
