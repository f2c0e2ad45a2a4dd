"""Print the OpenAPI document of the API, from which the front end's types are made."""

import json

from kind_echo.web.app import create_app

if __name__ == "__main__":
    print(json.dumps(create_app().api_doc, indent=1, sort_keys=True, ensure_ascii=False))
