"""What is said of a picture, and its recipe, as an XMP packet (ISO 16684-1)."""

from __future__ import annotations

from html import escape
from typing import Final

from ..model.imprint import Imprint

_OWN: Final = "https://bichromus.invalid/recipe/2/"
_SPACES: Final = (
    'xmlns:dc="http://purl.org/dc/elements/1.1/" '
    'xmlns:xmp="http://ns.adobe.com/xap/1.0/" '
    f'xmlns:bichromus="{_OWN}"'
)


def xmp_packet(imprint: Imprint, recipe: str, software: str) -> bytes:
    """The packet, UTF-8. ``recipe`` is JSON text, or nothing."""
    parts = [f"<xmp:CreatorTool>{_safe(software)}</xmp:CreatorTool>"]
    for name, words in (
        ("title", imprint.title),
        ("description", imprint.description),
        ("rights", imprint.rights),
    ):
        if words:
            parts.append(
                f'<dc:{name}><rdf:Alt><rdf:li xml:lang="x-default">{_safe(words)}</rdf:li>'
                f"</rdf:Alt></dc:{name}>"
            )
    if imprint.authors:
        names = "".join(f"<rdf:li>{_safe(a)}</rdf:li>" for a in imprint.authors)
        parts.append(f"<dc:creator><rdf:Seq>{names}</rdf:Seq></dc:creator>")
    if recipe:
        parts.append(f"<bichromus:recipe>{_safe(recipe)}</bichromus:recipe>")
    return (
        '<?xpacket begin="\ufeff" id="W5M0MpCehiHzreSzNTczkc9d"?>'
        '<x:xmpmeta xmlns:x="adobe:ns:meta/">'
        '<rdf:RDF xmlns:rdf="http://www.w3.org/1999/02/22-rdf-syntax-ns#">'
        f'<rdf:Description rdf:about="" {_SPACES}>{"".join(parts)}</rdf:Description>'
        '</rdf:RDF></x:xmpmeta><?xpacket end="r"?>'
    ).encode()


def _safe(words: str) -> str:
    """Words without what no XML may hold."""
    return escape("".join(c for c in words if c in "\t\n" or ord(c) >= 0x20))
