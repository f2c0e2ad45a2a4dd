.PHONY: demo start stop reset test types screenshots benchmarks

demo:
	@ops/bootstrap.sh runtime
	@.venv/bin/python -m ops.stack demo

# The same without the demo: an empty installation, and a link for its first account.
start:
	@ops/bootstrap.sh runtime
	@.venv/bin/python -m ops.stack start

stop:
	@.venv/bin/python -m ops.stack stop

reset:
	@.venv/bin/python -m ops.stack reset

test:
	@ops/bootstrap.sh dev
	@.venv/bin/python -m ops.check

# Renew what is made from the code: the API's document, the tables of measures and of access.
types:
	@ops/bootstrap.sh dev
	@.venv/bin/python -m ops.measures > docs/measures.md
	@.venv/bin/python -m ops.access > docs/access.md
	@.venv/bin/python -m ops.openapi > docs/openapi.json

screenshots:
	@ops/bootstrap.sh dev
	@.venv/bin/python -m ops.screenshots

benchmarks:
	@ops/bootstrap.sh dev
	@.venv/bin/python -m benchmarks.run
