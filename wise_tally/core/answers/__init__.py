"""The answer of a page in one sentence, made from the page's own figures: one function a page."""
