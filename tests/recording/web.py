"""A small web application with a loop in it, and a search without an index.

Started on its own: ``python web.py URL FILE``, it answers on a port of its choice, which it prints.
"""

from __future__ import annotations

import sys
from wsgiref.simple_server import WSGIRequestHandler, make_server

import psycopg
from flask import Flask, jsonify
from sqlalchemy import create_engine, text

from humble_ledger.recording import WsgiRequests, record


def application(url: str, file: str) -> Flask:
    """The pages: keepers with their last visits, and the remarks about one buoy."""
    made = (
        create_engine(url)
        if url.startswith("sqlite:")
        else create_engine("postgresql+psycopg://", creator=lambda: psycopg.connect(url))
    )
    engine = record(made, file, application="pier")
    app = Flask(__name__)

    @app.get("/keepers")
    def keepers() -> object:
        with engine.connect() as connection:
            found = connection.execute(text("SELECT id, name FROM keeper ORDER BY id"))
            return jsonify([{"name": name, "last": last_visit(id_)} for id_, name in found.all()])

    def last_visit(keeper: int) -> str:
        with engine.connect() as connection:
            query = text("SELECT max(day) FROM visit WHERE keeper_id = :keeper AND id < 200")
            return str(connection.execute(query, {"keeper": keeper}).scalar())

    @app.get("/remarks/<int:buoy>")
    def remarks(buoy: int) -> object:
        with engine.connect() as connection:
            query = text("SELECT id, remark FROM visit WHERE buoy_id = :buoy")
            return jsonify([row.remark for row in connection.execute(query, {"buoy": buoy})])

    app.wsgi_app = WsgiRequests(app.wsgi_app)  # type: ignore[method-assign]
    return app


class _Quiet(WSGIRequestHandler):
    def log_message(self, format: str, *args: object) -> None:
        """Nothing to stderr."""


if __name__ == "__main__":
    served = make_server("127.0.0.1", 0, application(*sys.argv[1:3]), handler_class=_Quiet)
    sys.stdout.write(f"{served.server_port}\n")
    sys.stdout.flush()
    served.serve_forever()
