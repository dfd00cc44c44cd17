"""A server of files from the standard library."""
import os, sys, tempfile
from http.server import SimpleHTTPRequestHandler, ThreadingHTTPServer
root = tempfile.mkdtemp()
os.makedirs(root + "/assign"); os.makedirs(root + "/x")
for name in ("assign/index.html", "assign/7"):
    open(f"{root}/{name}", "w").write("CLOSED")
os.chdir(root)
ThreadingHTTPServer(("127.0.0.1", int(sys.argv[1])), SimpleHTTPRequestHandler).serve_forever()
