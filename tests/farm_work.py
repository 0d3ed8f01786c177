"""Work for a farm's workers, which import it by name."""

import os
import time


def double_or_die(number):
    """Twice a number; 13 ends its process, and that of whoever tries it again."""
    if number == 13:
        time.sleep(0.2)  # so that its beginning is heard of
        os._exit(1)
    return 2 * number


def slow_square(number):
    """A number times itself, in a second."""
    time.sleep(1.0)
    return number * number
