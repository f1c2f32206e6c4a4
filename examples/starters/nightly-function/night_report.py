"""Writes the report of the night: how much snow fell on Kestrel Ridge."""

import os


def handle(request):
    return {"written_to": os.environ["REPORTS"], "snow_cm": request.get("snow_cm", 0)}
