"""The program that makes a PDF of a report: run by its path, with the HTML file and the PDF's name."""

import gc
import sys

from weasyprint import HTML
from weasyprint.urls import URLFetcher


def main(source: str, target: str) -> None:
    """Write the PDF. Whatever stands in a report is in it: nothing is fetched from anywhere."""
    # A layout is millions of small things that stay to its end: looking for garbage among them took half of the time.
    gc.disable()
    HTML(filename=source, url_fetcher=URLFetcher(allowed_protocols=["data"])).write_pdf(target)


if __name__ == "__main__":
    main(*sys.argv[1:])
