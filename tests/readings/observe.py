#!/usr/bin/env python3
"""Asks real servers for every spelling in spellings.txt and writes which of them answered with the closed page.

Run by `tests/readings/observe.sh`, which fetches what the servers need; `./run test` reads what it wrote, and needs none of them.
"""
import pathlib, socket, subprocess, sys, time

here, work = pathlib.Path(__file__).parent, pathlib.Path(sys.argv[1])
servers = here / "servers"



COMMANDS = {
    "javascript-express": ["node", str(work / "routes.mjs")],
    "javascript-url": ["node", str(servers / "url.mjs")],
    "python-flask": [str(work / "venv/bin/python"), str(servers / "routes.py")],
    "python-files": [sys.executable, str(servers / "files.py")],
    "go-mux": [str(work / "mux")],
    "ruby-webrick": ["ruby", str(servers / "mounts.rb")],
    "java-tomcat": ["java", "-cp", f"{work}:/usr/share/java/tomcat10-embed-core.jar:/usr/share/java/jakarta-annotation-api.jar", "Servlet"],
    "java-httpserver": ["java", "-cp", str(work), "Plain"],
    "perl-daemon": ["perl", str(servers / "daemon.pl")],
    "php": ["php", "-S", "127.0.0.1:{port}", "-t", str(servers / "php")],
}


def ask(port, path):
    with socket.create_connection(("127.0.0.1", port), timeout=5) as s:
        s.sendall(b"GET " + path.encode() + b" HTTP/1.1\r\nHost: berths.example\r\nConnection: close\r\n\r\n")
        answer = b""
        while part := s.recv(65536):
            answer += part
    return answer


def start(name, command):
    with socket.socket() as s:
        s.bind(("127.0.0.1", 0))
        port = s.getsockname()[1]
    with_port = [c.replace("{port}", str(port)) for c in command]
    process = subprocess.Popen(with_port + ([] if with_port != command else [str(port)]), stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    for _ in range(300):
        try:
            if b"CLOSED" in ask(port, "/assign") or b" 30" in ask(port, "/assign"):
                return process, port
        except OSError:
            pass
        time.sleep(0.05)
    process.kill()
    sys.exit(f"{name} does not start")


seen = {}
for name, command in COMMANDS.items():
    process, port = start(name, command)
    for path in (here / "spellings.txt").read_text().splitlines():
        try:
            closed = b"CLOSED" in ask(port, path)
        except OSError:
            closed = False
        if closed:
            seen.setdefault(path, []).append(name)
    process.kill()
    process.wait()
for path in (here / "spellings.txt").read_text().splitlines():
    print(path + "\t" + " ".join(seen.get(path, [])))
