"""Pictures of people are drawn anew, so that nothing but pixels of them is kept or shown."""

from __future__ import annotations

import io

from PIL import Image, ImageOps, UnidentifiedImageError

from maestoso.core.errors import BadValue

FORMATS = ["PNG", "JPEG"]


def drawn_anew(body: bytes, *, what: str, most: int, shown: int) -> bytes:
    """A PNG or JPEG picture as PNG, the right way up, at most ``shown`` pixels in each direction.

    Raises BadValue, in which ``what`` names it, for what is no such picture or has over ``most`` pixels in a
    direction.
    """
    try:
        picture = Image.open(io.BytesIO(body), formats=FORMATS)
        if max(picture.size) > most:
            raise BadValue(
                f"{what} is {picture.size[0]} x {picture.size[1]} pixels.",
                f"Give at most {most} in each direction.",
                field="body",
            )
        picture.verify()
        # Whoever looked at it has read it to its end.
        anew = ImageOps.exif_transpose(Image.open(io.BytesIO(body), formats=FORMATS)).convert("RGBA")
        anew.thumbnail((shown, shown))
        drawn = io.BytesIO()
        anew.save(drawn, format="PNG")
    except (UnidentifiedImageError, Image.DecompressionBombError, OSError, ValueError, SyntaxError) as error:
        raise BadValue(
            "This is no picture that can be read.", "Give a PNG or JPEG file.", field="body"
        ) from error
    return drawn.getvalue()
