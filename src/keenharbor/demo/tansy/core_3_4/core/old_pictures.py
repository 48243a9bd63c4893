"""Pictures with a frame, as extensions of Tansy 2 and 3 asked for them. Deprecated; goes with 4.0."""

import loam


def framed_picture(source, caption):
    return (
        f'<figure><img src="{source}" '
        f'alt="{loam.escape(caption)}"><figcaption>{loam.escape(caption)}</figcaption></figure>'
    )
