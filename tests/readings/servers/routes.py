import sys
from flask import Flask
app = Flask(__name__)
@app.route("/assign", strict_slashes=False)
@app.route("/assign/<path:rest>")
def closed(rest=""):
    return "CLOSED"
@app.route("/", defaults={"rest": ""})
@app.route("/<path:rest>")
def other(rest):
    return "OTHER"
app.run("127.0.0.1", int(sys.argv[1]))
