"""Makes a store of many images, by writing its records at once; or draws the growth of what was measured.

    bench-scale.py make FOLDER MANIFESTS     the store in FOLDER, which `larder` has just made, empty, gets its rows
    bench-scale.py measure LARDER FOLDER     what that store costs, a line for each question: name, milliseconds, MiB
    bench-scale.py plot TABLE PICTURE        a table (name, then a column for each size) becomes a picture (SVG)
"""
import hashlib
import json
import os
import sqlite3
import statistics
import subprocess
import sys
import time
import urllib.request

MANIFEST = "application/vnd.oci.image.manifest.v1+json"
CONFIG = "application/vnd.oci.image.config.v1+json"
LAYER = "application/vnd.oci.image.layer.v1.tar"
A_REPOSITORY = 100
SHELVES = ["vendor", "bazaar", "team", "plant", "tools"]


def digest(text):
    return "sha256:" + hashlib.sha256(text).hexdigest()


def config_of(number):
    return b'{"os":"linux","architecture":"amd64","number":"%012d"}' % number


def image(number):
    """The blobs of an image, with their sizes, and its manifest."""
    config = config_of(number)
    blobs = [(digest(config), len(config))] + [(digest(b"%d %d" % (number, part)), 1000 * part) for part in (2, 3)]
    kinds = [CONFIG, LAYER, LAYER]
    parts = [{"mediaType": kind, "digest": blob, "size": size} for kind, (blob, size) in zip(kinds, blobs)]
    body = {"schemaVersion": 2, "mediaType": MANIFEST, "config": parts[0], "layers": parts[1:]}
    if number % A_REPOSITORY == 1:
        # About the repository's first image, as a signature is.
        subject = image_digest(number - 1)
        body["artifactType"] = "application/vnd.example.note"
        body["subject"] = {"mediaType": MANIFEST, "digest": subject[0], "size": subject[1]}
    return blobs, body


def image_digest(number):
    body = json.dumps(image(number)[1]).encode()
    return digest(body), len(body)


def make(folder, count):
    began = time.time()
    ledger = sqlite3.connect(folder + "/ledger.sqlite", isolation_level=None)
    ledger.execute("PRAGMA journal_mode = OFF")
    ledger.execute("PRAGMA synchronous = OFF")
    ledger.execute("PRAGMA cache_size = -400000")
    # The rows are written as the triggers would have them, and the indexes made at the end: both are quicker so.
    saved = ledger.execute("SELECT type, name, sql FROM sqlite_master WHERE type IN ('trigger', 'index') AND sql NOT NULL").fetchall()
    for kind, name, _ in saved:
        ledger.execute(f"DROP {kind} {name}")
    now = int(time.time() * 1000)
    ledger.execute("CREATE TEMP TABLE b (repository, digest, size)")
    ledger.execute("CREATE TEMP TABLE m (repository, digest, size, subject, kind, number, body)")
    ledger.execute("BEGIN")
    repositories = count // A_REPOSITORY
    for number in range(repositories):
        shelf = SHELVES[number % len(SHELVES)]
        ledger.execute("INSERT INTO repositories (id, name, shelf, manifests) VALUES (?, ?, ?, ?)", (number + 1, f"{shelf}/group{number % 97}/image{number}", shelf, A_REPOSITORY))
    for number in range(count):
        blobs, body = image(number)
        text = json.dumps(body).encode()
        repository = number // A_REPOSITORY + 1
        ledger.executemany("INSERT INTO b VALUES (?, ?, ?)", [(repository, blob, size) for blob, size in blobs])
        subject = body.get("subject", {}).get("digest")
        ledger.execute("INSERT INTO m VALUES (?, ?, ?, ?, ?, ?, ?)", (repository, digest(text), len(text), subject, body.get("artifactType"), number, text))
        ledger.executemany("INSERT INTO needs (repository, manifest, target, is_child, size) VALUES (?, ?, ?, 0, ?)", sorted((repository, digest(text), blob, size) for blob, size in blobs))
    ledger.execute("COMMIT")
    ledger.execute("BEGIN")
    ledger.execute("INSERT INTO contents SELECT digest, size, 'content/sha256/' || substr(digest, 8, 2) || '/' || substr(digest, 8) || '.0', ?, 'here', 1 FROM b ORDER BY digest", (now,))
    ledger.execute("INSERT INTO blobs (repository, digest, size, idle, users) SELECT repository, digest, size, ?, 1 FROM b ORDER BY repository, digest", (now,))
    ledger.execute("INSERT INTO manifests (repository, digest, media_type, size, subject, added, artifact_type, annotations, volume, tags) SELECT repository, digest, ?, size, subject, ?, kind, NULL, size + ?, subject IS NULL FROM m ORDER BY repository, digest", (MANIFEST, now, 5000 + len(config_of(0))))
    ledger.execute("INSERT INTO bodies SELECT digest, body FROM m ORDER BY digest")
    ledger.execute("INSERT INTO tags (repository, name, digest, since) SELECT repository, '1.' || (number % 100), digest, ? FROM m WHERE subject IS NULL ORDER BY repository, '1.' || (number % 100)", (now,))
    ledger.execute("INSERT INTO holds SELECT r.shelf, x.digest, x.size, 1 FROM (SELECT repository, digest, size FROM b UNION ALL SELECT repository, digest, size FROM m) x JOIN repositories r ON r.id = x.repository ORDER BY 1, 2")
    ledger.execute("INSERT INTO totals (shelf, repositories, tags, manifests, bytes, alone, apart, changed) SELECT r.shelf, COUNT(DISTINCT r.id), SUM(m.tags), 0, SUM(m.volume), SUM(m.volume), SUM(m.volume * (m.tags > 0)), ? FROM manifests m JOIN repositories r ON r.id = m.repository GROUP BY r.shelf", (now,))
    ledger.execute("UPDATE totals SET repositories = ?, tags = (SELECT COUNT(*) FROM tags), manifests = ?, blobs = ?, bytes = (SELECT SUM(volume) FROM manifests) WHERE shelf = ''", (repositories, count, 3 * count))
    ledger.execute("COMMIT")
    ledger.execute("DROP TABLE temp.b")
    ledger.execute("DROP TABLE temp.m")
    for _, _, sql in sorted(saved):
        ledger.execute(sql)
    ledger.execute("ANALYZE")
    ledger.execute("DROP TABLE sqlite_stat1")
    ledger.execute("PRAGMA journal_mode = WAL")
    ledger.close()
    # The objects lie there, layers without their bytes: what lists the folder has as much to list.
    for part in range(256):
        os.makedirs(f"{folder}/content/sha256/{part:02x}", exist_ok=True)
    for number in range(count):
        for part, (blob, _) in enumerate(image(number)[0]):
            file = os.open(f"{folder}/content/sha256/{blob[7:9]}/{blob[7:]}.0", os.O_CREAT | os.O_WRONLY, 0o600)
            if part == 0:
                os.write(file, config_of(number))
            os.close(file)
    print(f"{count} manifests and {3 * count} blobs in {repositories} repositories: {time.time() - began:.0f} s", file=sys.stderr)


def run(command, folder):
    """A command's wall time and processor time in milliseconds, and its peak in MiB."""
    began = time.time()
    process = subprocess.Popen(command, cwd=folder, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL)
    process.stdout.read()
    _, status, used = os.wait4(process.pid, 0)
    if os.waitstatus_to_exitcode(status) != 0:
        raise SystemExit(f"{command} ended with {os.waitstatus_to_exitcode(status)}")
    return (time.time() - began) * 1000, (used.ru_utime + used.ru_stime) * 1000, used.ru_maxrss / 1024


def measure(larder, folder):
    ledger = sqlite3.connect(f"file:{folder}/larder-data/ledger.sqlite?mode=ro", uri=True)
    count = ledger.execute("SELECT repositories FROM totals WHERE shelf = ''").fetchone()[0]
    number = count // 2
    name = ledger.execute("SELECT name FROM repositories WHERE id = ?", (number + 1,)).fetchone()[0]
    ledger.close()
    subject = image_digest(number * A_REPOSITORY)[0]
    start = statistics.median(run([larder, "--quiet", "shelf", "show", "none/none", "--unpulled", "1d"], folder)[1] for _ in range(5))
    for what, command, times, of_processor in [
        ("shelf show REPOSITORY, processor beyond the start", ["shelf", "show", name], 5, True),
        ("shelf list", ["shelf", "list"], 5, False),
        ("shelf drop IMAGE --dry-run", ["shelf", "drop", f"{name}:1.7", "--dry-run"], 3, False),
        ("store collect --dry-run", ["store", "collect", "--dry-run", "--grace", "0s"], 1, False),
    ]:
        found = [run([larder, "--quiet", *command], folder) for _ in range(times)]
        took = statistics.median(one[1] - start if of_processor else one[0] for one in found)
        print(f"{what}\t{max(took, 0):.1f}\t{max(one[2] for one in found):.0f}")
    began = time.time()
    server = subprocess.Popen([larder, "serve", "--listen", "127.0.0.1:0"], cwd=folder, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, text=True)
    addresses = {}
    while len(addresses) < 2:
        words = server.stdout.readline().split()
        for word in words:
            if word.startswith("http://"):
                addresses.setdefault("figures" if "figures" in words else "registry", word.rstrip(",;/"))
    ready = (time.time() - began) * 1000
    print(f"ready\t{ready:.1f}\t-")
    for what, url in [
        ("page of the catalog", addresses["registry"] + "/v2/_catalog?n=100"),
        ("page of tags", addresses["registry"] + f"/v2/{name}/tags/list?n=100"),
        ("page of referrers", addresses["registry"] + f"/v2/{name}/referrers/{subject}"),
        ("scrape of /metrics", addresses["figures"]),
    ]:
        took = []
        for _ in range(9):
            began = time.time()
            urllib.request.urlopen(url).read()
            took.append((time.time() - began) * 1000)
        print(f"{what}\t{statistics.median(took):.1f}\t-")
    peak = [line.split()[1] for line in open(f"/proc/{server.pid}/status") if line.startswith("VmHWM")][0]
    print(f"larder serve\t-\t{int(peak) / 1024:.0f}")
    server.terminate()
    server.wait()


def plot(table, picture):
    import math

    rows = [line.split("\t") for line in open(table).read().splitlines() if line]
    sizes = [int(size.replace(",", "")) for size in rows[0][1:]]
    lines = [(row[0], [float(cell) for cell in row[1:]]) for row in rows[1:] if all(cell not in ("", "-") for cell in row[1:])]
    width, height, left, top = 860, 420, 70, 20
    most = max(max(values) for _, values in lines)
    least = max(min(min(values) for _, values in lines), 0.1)
    x = lambda size: left + 500 * (math.log10(size) - math.log10(sizes[0])) / (math.log10(sizes[-1]) - math.log10(sizes[0]))
    y = lambda value: top + 360 * (1 - (math.log10(max(value, least)) - math.log10(least)) / (math.log10(most) - math.log10(least)))
    colours = ["#1f5f8b", "#b3541e", "#3d7a4a", "#7a3d74", "#8a7b1f", "#444444", "#1f8b86", "#8b1f3d", "#e08a00"]
    out = [f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 {width} {height}" font-family="sans-serif" font-size="12">', f'<rect width="{width}" height="{height}" fill="white"/>']
    for size in sizes:
        out.append(f'<line x1="{x(size):.0f}" y1="{top}" x2="{x(size):.0f}" y2="380" stroke="#ddd"/><text x="{x(size):.0f}" y="398" text-anchor="middle">{size:,}</text>')
    power = math.ceil(math.log10(least))
    while 10**power <= most:
        out.append(f'<line x1="{left}" y1="{y(10**power):.0f}" x2="{left + 500}" y2="{y(10**power):.0f}" stroke="#ddd"/><text x="{left - 8}" y="{y(10**power) + 4:.0f}" text-anchor="end">{10**power:g} ms</text>')
        power += 1
    ends = sorted((y(values[-1]), number) for number, (_, values) in enumerate(lines))
    # From the bottom up, so that no name stands below the axis or on another one.
    places, last = {}, 390
    for at, number in reversed(ends):
        last = min(at, last - 15)
        places[number] = last
    for number, (name, values) in enumerate(lines):
        colour = colours[number % len(colours)]
        points = " ".join(f"{x(size):.0f},{y(value):.0f}" for size, value in zip(sizes, values))
        out.append(f'<polyline points="{points}" fill="none" stroke="{colour}" stroke-width="2"/><text x="{left + 510}" y="{places[number] + 4:.0f}" fill="{colour}">{name.split(",")[0]}</text>')
    out.append(f'<text x="{left + 250}" y="415" text-anchor="middle">manifests in the store</text></svg>')
    open(picture, "w").write("\n".join(out) + "\n")


if __name__ == "__main__":
    if sys.argv[1] == "make":
        make(sys.argv[2], int(sys.argv[3]))
    elif sys.argv[1] == "measure":
        measure(sys.argv[2], sys.argv[3])
    else:
        plot(sys.argv[2], sys.argv[3])
