"""Deliveries by Numerant to a real mail server on the loopback address, read back by Python's email package.

    python tools/mail.py target/debug/numerant

Needs aiosmtpd and trustme from PyPI. With --speed it measures 1,000 messages of 100 kB instead.
"""

import asyncio
import csv
import email
import email.policy
import os
import signal
import ssl
import subprocess
import sys
import tempfile
import threading
import time
from pathlib import Path

import trustme
from aiosmtpd.controller import Controller
from aiosmtpd.smtp import SMTP, AuthResult, LoginPassword

PASSWORD = "seven masts"
KEYS = [f"Quay {number:03}" for number in range(200)]


class Handler:
    """Keeps what comes in, and answers as a case says."""

    def __init__(self):
        self.messages, self.answers, self.lock = [], {}, threading.Lock()
        self.delay, self.drop_after_data = 0, set()

    async def handle_RCPT(self, server, session, envelope, address, options):
        answers = self.answers.get(address)
        if answers:
            return answers.pop(0)
        envelope.rcpt_tos.append(address)
        return "250 OK"

    async def handle_DATA(self, server, session, envelope):
        if self.delay:
            await asyncio.sleep(self.delay)
        with self.lock:
            self.messages.append((tuple(envelope.rcpt_tos), envelope.content))
        if self.drop_after_data.intersection(envelope.rcpt_tos):
            self.drop_after_data.clear()
            server.transport.abort()
            return "250 too late"
        return "250 taken"


class Server(Controller):
    def __init__(self, handler, context=None, login=False):
        self.context, self.login = context, login
        super().__init__(handler, hostname="localhost", port=0)

    def factory(self):
        def check(server, session, envelope, mechanism, data):
            good = isinstance(data, LoginPassword) and data.password == PASSWORD.encode()
            return AuthResult(success=good, handled=False)

        return SMTP(self.handler, hostname="localhost", tls_context=self.context, require_starttls=bool(self.context),
                    auth_required=self.login, authenticator=check, data_size_limit=64 << 20)

    def start(self):
        # aiosmtpd asks its own port, which is not known before it listens.
        import socket
        with socket.socket() as free:
            free.bind(("127.0.0.1", 0))
            self.port = free.getsockname()[1]
        super().start()
        return self


def prepare(program, folder, size=400):
    """A run of 200 outputs with its ledger, and routes for them."""
    with open(folder / "calls.csv", "w", newline="", encoding="utf-8") as file:
        out = csv.writer(file)
        out.writerow(["quay", "note"])
        for key in KEYS:
            out.writerow([key, "Ånd\n.a line with a dot, " + key * (size // len(key))])
    words = [program, "split", "calls.csv", "--by", "quay", "--ledger", "calls.json", "--out", "parts", "--quiet"]
    subprocess.run(words, cwd=folder, check=True)
    with open(folder / "routes.csv", "w", newline="", encoding="utf-8") as file:
        out = csv.writer(file)
        out.writerow(["quay", "to", "name"])
        out.writerows([key, address(key), f"Åsa of {key}"] for key in KEYS)


def address(key):
    return f"{key.lower().replace(' ', '-')}@varnholm.example"


def command(program, server, *more):
    return [program, "deliver", "calls.json", "--routes", "routes.csv", "--from", "Ørsted Port <port@varnholm.example>",
            "--channel", "smtp", "--smtp", f"localhost:{server.port}", "--subject", "Däily: {quay}", *more]


def run(words, folder, password=PASSWORD):
    environment = dict(os.environ, NUMERANT_SMTP_PASSWORD=password)
    return subprocess.run(words, cwd=folder, capture_output=True, text=True, env=environment)


def forget(folder):
    (folder / "calls.deliveries.jsonl").unlink(missing_ok=True)


def recipients(handler):
    return sorted(to for rcpts, _ in handler.messages for to in rcpts)


def check_contents(handler, folder):
    """Whether each message has its file byte for byte, and its texts."""
    for rcpts, content in handler.messages:
        message = email.message_from_bytes(content, policy=email.policy.default)
        key = next(key for key in KEYS if address(key) == rcpts[0])
        assert message["subject"] == f"Däily: {key}", message["subject"]
        assert message["from"].addresses[0].display_name == "Ørsted Port", message["from"]
        assert message["message-id"].endswith("@varnholm.example>"), message["message-id"]
        files = list(message.iter_attachments())
        assert [file.get_filename() for file in files] == [f"{key}.csv"], files
        assert files[0].get_content().encode() == (folder / "parts" / f"{key}.csv").read_bytes() or \
            files[0].get_payload(decode=True) == (folder / "parts" / f"{key}.csv").read_bytes(), key


def main():
    program = Path(sys.argv[1]).resolve()
    authority = trustme.CA()
    good = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    authority.issue_cert("localhost").configure_cert(good)
    wrong = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    authority.issue_cert("other.example").configure_cert(wrong)
    with tempfile.TemporaryDirectory() as folder:
        folder = Path(folder)
        authority.cert_pem.write_to_path(str(folder / "ca.pem"))
        if "--speed" in sys.argv:
            speed(program, folder)
            return
        prepare(program, folder)
        trust = ["--user", "port", "--trust", "ca.pem"]

        handler = Handler()
        server = Server(handler, good, login=True).start()
        done = run(command(program, server, *trust), folder)
        assert done.returncode == 0 and "200 delivered" in done.stdout, done
        assert recipients(handler) == sorted(map(address, KEYS))
        check_contents(handler, folder)
        again = run(command(program, server, *trust), folder)
        assert again.returncode == 0 and "200 delivered before" in again.stdout, again
        assert len(handler.messages) == 200
        print("200 messages over STARTTLS with a login: byte for byte, and none of them twice")

        forget(folder)
        done = run(command(program, server, *trust), folder, password="wrong")
        assert done.returncode == 3 and "login" in done.stdout and "199 not tried" in done.stdout, done
        server.stop()
        for context, more, expected in [
            (wrong, trust, "certificate"),
            (good, ["--user", "port"], "certificate"),
            (None, trust, "does not offer encryption"),
        ]:
            handler = Handler()
            server = Server(handler, context).start()
            forget(folder)
            done = run(command(program, server, *more), folder)
            assert done.returncode == 3 and expected in done.stdout.lower() and not handler.messages, (expected, done)
            server.stop()
        print("a wrong password, a wrong and an unknown certificate, and no encryption: refused, nothing sent")

        plain = ["--tls", "none"]
        handler = Handler()
        server = Server(handler).start()
        first, second, third = map(address, KEYS[:3])
        handler.answers = {first: ["451 later"], second: ["550 nobody"]}
        handler.drop_after_data = {third}
        forget(folder)
        done = run(command(program, server, *plain), folder)
        assert done.returncode == 3 and "198 delivered, 1 failed, 1 in doubt" in done.stdout, done
        assert "(550): nobody" in done.stdout, done
        done = run(command(program, server, *plain), folder)
        assert done.returncode == 3 and "1 delivered, 198 delivered before, 1 in doubt" in done.stdout, done
        done = run(command(program, server, *plain, "--in-doubt", "skip"), folder)
        assert done.returncode == 0 and len(handler.messages) == 200, done
        assert recipients(handler) == sorted(map(address, KEYS))
        server.stop()
        print("4xx is tried again, 5xx is named, and a line that is cut after the content is in doubt")

        stalls(program, folder, plain)
        interrupted(program, folder, plain)
        kills(program, folder, plain)
        done = run(command(program, server, *plain, "--in-doubt", "skip"), folder)
        assert done.returncode == 0, "all was handed over by then"
        forget(folder)
        done = run(command(program, server, *plain, "--retries", "0"), folder)
        assert done.returncode == 3 and "1 failed, 199 not tried" in done.stdout, done
        print("a server that is gone: named once, and the others are not tried")


def stalls(program, folder, plain):
    """A server that takes messages and does not answer: after two in doubt, the others are not tried."""
    handler = Handler()
    handler.delay = 30
    server = Server(handler).start()
    forget(folder)
    began = time.monotonic()
    done = run(command(program, server, *plain, "--timeout", "1", "--retries", "0"), folder)
    assert done.returncode == 3 and "2 in doubt" in done.stdout and "198 not tried" in done.stdout, done
    assert time.monotonic() - began < 25, "the answer is not waited for"
    server.stop()
    print("a server that stalls: two messages are in doubt after a second each, and the others are not tried")


def interrupted(program, folder, plain):
    """A delivery that is interrupted ends between two messages, with code 130, and goes on where it was."""
    handler = Handler()
    handler.delay = 0.02
    server = Server(handler).start()
    forget(folder)
    process = subprocess.Popen(command(program, server, *plain), cwd=folder, stdout=subprocess.DEVNULL,
                               stderr=subprocess.DEVNULL)
    while not handler.messages:
        time.sleep(0.01)
    process.send_signal(signal.SIGINT)
    assert process.wait() == 130, process.returncode
    count = len(handler.messages)
    assert 0 < count < 200, count
    handler.delay = 0
    done = run(command(program, server, *plain), folder)
    assert done.returncode == 0 and f"{count} delivered before" in done.stdout, done
    assert recipients(handler) == sorted(map(address, KEYS))
    server.stop()
    print("interrupted: code 130 between two messages, and the next run hands over the others")


def kills(program, folder, plain):
    """A delivery that is killed again and again ends with each message once, but for those in doubt."""
    handler = Handler()
    handler.delay = 0.004
    server = Server(handler).start()
    forget(folder)
    count = doubtful = 0
    for _ in range(400):
        words = command(program, server, *plain, "--in-doubt", "skip")
        process = subprocess.Popen(words, cwd=folder, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        try:
            process.wait(timeout=0.05 + (count % 7) * 0.02)
        except subprocess.TimeoutExpired:
            process.send_signal(signal.SIGKILL)
            process.wait()
        if process.returncode == 0:
            break
        count += 1
    time.sleep(0.2)
    taken = recipients(handler)
    assert len(taken) == len(set(taken)), "nothing twice"
    missing = set(map(address, KEYS)) - set(taken)
    # A message that was in doubt was taken as delivered here: at most one for each kill.
    journal = (folder / "calls.deliveries.jsonl").read_text()
    for to in missing:
        doubtful += 1
        assert journal.count(f'"to":["{to}"]') == 1, to
    assert doubtful <= count, (doubtful, count)
    server.stop()
    print(f"killed {count} times: nothing twice, {doubtful} of 200 in doubt, all of them in the journal")


def speed(program, folder):
    """1,000 messages of 100 kB."""
    global KEYS
    KEYS = [f"Quay {number:04}" for number in range(1000)]
    prepare(program, folder, 100_000)
    handler = Handler()
    server = Server(handler).start()
    began = time.monotonic()
    words = ["/usr/bin/time", "-f", "%M", *map(str, command(program, server, "--tls", "none"))]
    done = run(words, folder)
    took = time.monotonic() - began
    assert done.returncode == 0 and len(handler.messages) == 1000, done
    print(f"1,000 messages of 100 kB in {took:.1f} s, {took:.1f} ms each, {int(done.stderr.split()[-1]) // 1024} MB")
    server.stop()


main()
