"""Reads files by itself and compares: what survey finds, and what rewrite changes. See scripts/corpus."""
import collections, difflib, json, os, re, shutil, subprocess, sys, tempfile
import yaml

LISTS = ("containers", "initContainers", "ephemeralContainers")
HIDDEN = re.compile(r"^\.(github|gitlab|circleci|tekton|gitlab-ci\.ya?ml|drone\.ya?ml|travis\.ya?ml|prow\.ya?ml|devcontainer)")


class Loader(getattr(yaml, "CSafeLoader", yaml.SafeLoader)):
    """Takes every tag for what it is written on."""


def plain(node):
    return node.value if isinstance(node, yaml.ScalarNode) else None


def entries(node):
    return [(plain(key), value) for key, value in node.value] if isinstance(node, yaml.MappingNode) else []


def get(node, key):
    return next((value for name, value in entries(node) if name == key), None)


def items(node):
    return node.value if isinstance(node, yaml.SequenceNode) else []


def place(node):
    return node.start_mark.line + 1


def is_literal(text):
    return bool(text) and not re.search(r"[${}<>%@]{{|\$|{{|{%|<%|\s", text)


def merged(node, key):
    found = get(node, key)
    if found is not None:
        return found
    for name, value in entries(node):
        if name == "<<":
            for base in items(value) or [value]:
                found = merged(base, key)
                if found is not None:
                    return found
    return None


def walk(node, seen=None):
    seen = set() if seen is None else seen
    stack = [node]
    while stack:
        node = stack.pop()
        if id(node) in seen:
            continue
        seen.add(id(node))
        yield node
        if isinstance(node, yaml.MappingNode):
            stack.extend(value for _, value in node.value)
        elif isinstance(node, yaml.SequenceNode):
            stack.extend(node.value)


def of_tree(node, found):
    """Adds (dialect, line, text) of one document."""
    kind, version = get(node, "kind"), get(node, "apiVersion")
    if kind is not None and plain(kind) in ("Kustomization", "Component"):
        for one in items(get(node, "images")):
            name = get(one, "newName") or get(one, "name")
            if name is not None:
                found.append(("overlay", place(name), plain(name)))
        return
    if kind is not None and version is not None:
        def objects(node):
            if get(node, "kind") is not None and plain(get(node, "kind")) in ("CustomResourceDefinition", "Secret", "ConfigMap"):
                return
            for name, value in entries(node):
                if name in LISTS:
                    for one in items(value):
                        image = merged(one, "image")
                        if image is not None and is_literal(plain(image)):
                            found.append(("kubernetes", place(image), plain(image)))
                if name not in ("metadata", "status"):
                    objects(value)
            for one in items(node):
                objects(one)
        objects(node)
        return
    for inner in walk(node):
        for key in ("containerDefinitions", "ContainerDefinitions"):
            for one in items(get(inner, key)):
                image = get(one, "image") or get(one, "Image")
                if image is not None and is_literal(plain(image)) and not (image.tag or "").startswith("!"):
                    found.append(("tasks", place(image), plain(image)))
    services = get(node, "services")
    if get(node, "jobs") is not None and get(node, "on") is not None or any(plain(k) in ("on",) for k, _ in getattr(node, "value", []) if isinstance(k, yaml.ScalarNode)):
        for _, job in entries(get(node, "jobs")):
            container = get(job, "container")
            for image in [container if plain(container) else get(container, "image")] + [get(one, "image") for _, one in entries(get(job, "services"))]:
                if image is not None and is_literal(plain(image)):
                    found.append(("pipeline", place(image), plain(image)))
            for step in items(get(job, "steps")):
                uses = get(step, "uses")
                if uses is not None and (plain(uses) or "").startswith("docker://"):
                    found.append(("pipeline", place(uses), plain(uses)[9:]))
    elif isinstance(services, yaml.MappingNode) and not any(get(node, key) is not None for key in ("jobs", "steps", "pipeline", "stages")):
        built = {plain(merged(one, "image")) for _, one in entries(services) if merged(one, "build") is not None}
        for _, one in entries(services):
            image = merged(one, "image")
            if image is not None and plain(image) not in built and re.match(r"^[^$]*$", plain(image) or "$") and is_literal(plain(image)):
                found.append(("compose", place(image), plain(image)))


def of_values(node, found):
    for inner in walk(node):
        for name, value in entries(inner):
            if name and (name == "image" or name.endswith("Image")) and isinstance(value, yaml.MappingNode):
                repository = get(value, "repository")
                if repository is not None and is_literal(plain(repository)) and "//" not in plain(repository):
                    found.append(("values", place(repository), plain(repository)))
            elif name == "image" and is_literal(plain(value)) and re.match(r"^[a-z0-9.-]+(:\d+)?/\S+:[\w.-]+$", plain(value)):
                found.append(("values", place(value), plain(value)))


def of_build(text, found):
    stages, known, number, pending = set(), {}, 0, ""
    for number, line in enumerate(text.split("\n"), 1):
        if line.lstrip().startswith("#"):
            continue
        start = number if not pending else start
        pending += line.rstrip("\r")
        if pending.rstrip().endswith("\\"):
            pending = pending.rstrip()[:-1]
            continue
        words, pending = pending.split(), ""
        if not words:
            continue
        word = words[0].upper()
        if word == "ARG" and not stages and len(words) > 1 and "=" in words[1]:
            name, value = words[1].split("=", 1)
            known[name] = value.strip("\"'")
        images = []
        if word == "FROM":
            rest = [one for one in words[1:] if not one.startswith("--")]
            if rest:
                image = re.sub(r"\$\{(\w+)\}|\$(\w+)", lambda m: known.get(m[1] or m[2], "$"), rest[0].strip("\"'"))
                if image.lower() not in stages and image != "scratch":
                    images.append(image)
                stages.add(rest[2].lower() if len(rest) > 2 and rest[1].lower() == "as" else f" {number}")
        elif word in ("COPY", "ADD"):
            images += [one[7:] for one in words if one.startswith("--from=") and one[7:].lower() not in stages and not one[7:].isdigit()]
        for image in images:
            if is_literal(image):
                found.append(("buildfile", start, image))


def of_template(text, found):
    for number, line in enumerate(text.split("\n"), 1):
        match = re.match(r"^\s*(?:- )?[\"']?image[\"']?:\s*[\"']?([^\s\"'#{}]+)[\"']?\s*(?:#.*)?$", line)
        if match and re.match(r"^[a-z0-9.-]+(:\d+)?(/[\w.-]+)*:[\w.-]+$", match[1]):
            found.append(("template", number, match[1]))


def is_build(name):
    lower = name.lower()
    return re.match(r"^(docker|container)file([.-].*)?$|^.*\.(docker|container)file$", lower) and not lower.endswith((".md", ".html", ".rst"))


def expected(folder):
    """What an independent reading finds: {file: [(dialect, line, text)]}."""
    all_found = {}
    for path, folders, names in os.walk(folder):
        folders[:] = [one for one in folders if not one.startswith(".") or HIDDEN.match(one)]
        for name in names:
            full = os.path.join(path, name)
            if os.path.islink(full) or (name.startswith(".") and not HIDDEN.match(name)):
                continue
            lower, found = name.lower(), []
            chart = any(part == "templates" and os.path.exists(os.path.join(above, "Chart.yaml"))
                        for above, part in parents(folder, path))
            try:
                text = open(full, encoding="utf-8-sig", newline="").read()
                if is_build(name):
                    if not lower.endswith((".ejs", ".j2", ".tmpl", ".tpl")):
                        of_build(text, found)
                elif chart or lower.endswith((".j2", ".tpl", ".tmpl", ".ejs")):
                    if chart and lower.endswith((".yaml", ".yml", ".tpl")):
                        of_template(text, found)
                elif lower.endswith((".yaml", ".yml", ".json")) and "mage" in text:
                    for node in yaml.compose_all(text, Loader=Loader):
                        if isinstance(node, yaml.MappingNode):
                            before = len(found)
                            of_tree(node, found)
                            if len(found) == before and "values" in lower and lower.endswith((".yaml", ".yml")):
                                of_values(node, found)
            except (UnicodeDecodeError, yaml.YAMLError, RecursionError, OSError, ValueError):
                continue
            if found:
                all_found[full] = found
    return all_found


def parents(top, path):
    while len(path) > len(top):
        above, part = os.path.split(path)
        yield above, part
        path = above


def main():
    words = sys.argv[1:]
    missed = words[0] == "--missed" and bool(words.pop(0))
    larder, folders = words[0], words[1:]
    total = collections.Counter()
    for folder in folders:
        work = tempfile.mkdtemp()
        try:
            one(larder, folder, os.path.realpath(work), total, missed)
        finally:
            shutil.rmtree(work)
    print("\ndialect      expected  found  precision  recall   (against an independent reading)")
    for dialect in sorted({dialect for dialect, _ in total}):
        right, miss, more = (total[dialect, what] for what in ("right", "missed", "more"))
        if right + miss + more:
            precision, recall = right / max(1, right + more), right / max(1, right + miss)
            print(f"{dialect:12} {right + miss:8} {right + more:6}  {precision:9.3f}  {recall:6.3f}")


def one(larder, folder, work, total, missed):
    copy = os.path.join(work, "files")
    shutil.copytree(folder, copy, symlinks=True, ignore=shutil.ignore_patterns(".git"))
    for path, _, names in os.walk(copy):
        for name in names:
            if not os.path.islink(os.path.join(path, name)):
                os.chmod(os.path.join(path, name), 0o644)

    def run(*args, allowed=(0, 1)):
        done = subprocess.run([larder, "--new-store", *args], cwd=work, capture_output=True, text=True, errors="replace")
        if done.returncode not in allowed or "panicked" in done.stderr:
            sys.exit(f"larder {' '.join(args)} ended with {done.returncode}\n{done.stderr[-2000:]}")
        return done

    # Every registry that is named gets a shelf of its own, so that every reference has a route.
    def configure(hosts):
        text = '[larder]\nname = "corpus"\nurl = "https://larder.example"\naccess = "open"\n'
        for number, host in enumerate(sorted(hosts)):
            text += f'[[upstream]]\nname = "u{number}"\nhost = "{host}"\n[[shelf]]\nname = "s{number}"\ncaches = "u{number}"\n'
        open(os.path.join(work, "larder.toml"), "w").write(text)

    def survey():
        return json.loads(run("--json", "survey", copy).stdout)

    configure({"docker.io"})
    first = survey()
    readable = [row for row in first["references"] if row["standing"] not in ("malformed", "open", "built")]
    hosts = {row["host"] for row in readable}
    configure(hosts | {"docker.io"})
    found = collections.defaultdict(set)
    for row in first["references"]:
        if row["certain"]:
            for place in row["places"]:
                found[os.path.join(work, place["file"])].add((place["dialect"], place["line"]))
    reading = expected(copy)
    for file, all_found in reading.items():
        for dialect, line, text in all_found:
            hit = any(at == line for _, at in found[file])
            total[dialect, "right" if hit else "missed"] += 1
            if missed and not hit:
                print(f"  not found: {os.path.relpath(file, copy)}:{line} {dialect} {text}")
    judged = {"kubernetes", "compose", "buildfile", "overlay", "tasks"}
    for file, places in found.items():
        lines = {line for _, line, _ in reading.get(file, [])}
        for dialect, line in places:
            if dialect in judged and line not in lines:
                total[dialect, "more"] += 1
                if missed:
                    print(f"  only the program: {os.path.relpath(file, copy)}:{line} {dialect}")

    def read():
        content = {}
        for path, _, names in os.walk(copy):
            for name in names:
                full = os.path.join(path, name)
                if not os.path.islink(full):
                    content[full] = open(full, "rb").read()
        return content

    before = read()
    run("--json", "rewrite", "--write", "--include-strings", copy)
    after = read()
    assert before.keys() == after.keys(), "files came or went"
    # What differs on a line is a reference, or a piece of one: nothing else on it.
    lines = 0
    for name in before:
        if before[name] == after[name]:
            continue
        old, new = before[name].splitlines(True), after[name].splitlines(True)
        for tag, i, j, k, l in difflib.SequenceMatcher(None, old, new, autojunk=False).get_opcodes():
            if tag == "equal":
                continue
            # An overlay may get a line of its own for the new name.
            fresh = [line for line in new[k:l] if b"newName" in line and b"larder.example" in line]
            assert j - i == l - k or len(fresh) >= (l - k) - (j - i), f"{name}: lines were added or taken away near line {i + 1}"
            lines += l - k
            for was, now in zip(old[i:j], new[k:l]):
                head, tail = os.path.commonprefix([was, now]), os.path.commonprefix([was[::-1], now[::-1]])
                middle = now[len(head):len(now) - len(tail)] if len(head) + len(tail) <= len(now) else b""
                assert re.fullmatch(rb"[\w.:/@\[\]\"'-]*", middle) or j - i != l - k or b"newName" in now, f"{name}: {was!r} became {now!r}"
    second = json.loads(run("--json", "rewrite", "--write", "--include-strings", copy).stdout)
    assert second["changed"] == 0, f"a second run changes {second['changed']} files"
    assert read() == after
    run("--json", "rewrite", "--write", "--back", "--include-strings", copy)
    back = read()
    touched = [name for name in before if before[name] != after[name]]
    exact = sum(back[name] == before[name] for name in touched)
    # Where a short name was written out, what the files name is the same all the same.
    same = lambda rows: sorted((row["reference"], row["standing"] in ("open", "malformed", "built")) for row in rows)
    assert same(first["references"]) == same(survey()["references"]), "after --back the files name other images"
    print(f"{folder}: {len(before)} files, {first['files']} read, {len(first['broken'])} broken, {len(first['templates'])} templates, {len(readable)} images of {len(hosts)} registries")
    print(f"  {len(touched)} files changed on {lines} lines; a second run changed nothing; --back gave {exact} of them byte for byte, the others with short names written out")


main()
