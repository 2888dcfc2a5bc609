"""What the fonts of every PDF can write: they have Latin-1 only."""

_INSTEAD = (("“", '"'), ("”", '"'), ("…", "..."), ("−", "-"), ("–", "-"), ("⏎", "/"), ("→", "to"))


def plain(text: str) -> str:
    for a, b in _INSTEAD:
        text = text.replace(a, b)
    return text.encode("latin-1", "replace").decode("latin-1")
