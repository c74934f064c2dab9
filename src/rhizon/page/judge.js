// Whether a player can join: the same rules as rhizon/core/kit/judge.py, held together by shared vectors.
"use strict";

const BLOCKING = new Set(["missing", "other-release", "truncated", "changed", "wrong-folder", "two-releases", "clash",
  "no-loader", "wrong-loader", "wrong-game", "not-allowed"]);
const AGAIN = new Set(["missing", "other-release", "truncated", "changed", "wrong-folder", "no-loader", "wrong-loader"]);

function plain(path) {
  return path.replaceAll("\\", "/").normalize("NFC").toLowerCase().split("/")
    .filter((part) => part !== "" && part !== ".").join("/");
}

const folderOf = (path) => path.slice(0, Math.max(0, path.lastIndexOf("/")));
const nameOf = (path) => path.slice(path.lastIndexOf("/") + 1);
const byText = (a, b) => (a < b ? -1 : a > b ? 1 : 0);

function endingOf(path) {
  const match = /\.[A-Za-z]{2,4}$/.exec(plain(path));
  return match ? match[0] : "";
}

function stem(path) {
  return nameOf(plain(path)).replace(/\.[A-Za-z]{2,4}$/, "").replace(/[-_ .]v?[0-9].*$/, "");
}

const loaderFiles = (kit) => (kit.loader && kit.loader.files) || [];

function allFiles(kit) {
  return [...kit.pieces.flatMap((piece) => piece.files), ...(kit.overlay || []), ...loaderFiles(kit)];
}

// The paths (of [path, size]) whose contents matter: by their name, or since something known has their size.
function worthHashing(kit, files) {
  const names = new Set(allFiles(kit).map((file) => nameOf(plain(file.path))));
  const sizes = new Set([...allFiles(kit), ...(kit.others || [])].map((file) => file.size));
  return files.filter(([path, size]) => sizes.has(size) || names.has(nameOf(plain(path)))).map(([path]) => path);
}

// The pattern by which a file says a version, or null.
function markFor(kit, path) {
  const here = `/${plain(path)}`;
  const marks = [kit.loader_mark, kit.game_mark, ...Object.values(kit.versions || {})];
  const found = marks.find((mark) => mark && here.endsWith(`/${plain(mark.file)}`));
  return found ? found.pattern : null;
}

function readMark(pattern, text) {
  const compiled = new RegExp(pattern.replaceAll("(?P<", "(?<"), "u");
  const said = { id: "", version: "" };
  for (const line of text.split(/\r\n|\r|\n/).slice(0, 200)) {
    const match = compiled.exec(line.slice(0, 1000));
    for (const [name, value] of Object.entries((match && match.groups) || {})) {
      if (value && !said[name]) said[name] = value;
    }
  }
  return said.version ? [said.id, said.version] : null;
}

function baseOf(needed, there) {
  const ends = new Map();
  for (const path of there) {
    const name = nameOf(path);
    if (!ends.has(name)) ends.set(name, []);
    ends.get(name).push(path);
  }
  const counts = new Map();
  for (const one of needed) {
    for (const path of ends.get(nameOf(one)) || []) {
      if (path === one || path.endsWith(`/${one}`)) {
        const before = path.slice(0, path.length - one.length);
        counts.set(before, (counts.get(before) || 0) + 1);
      }
    }
  }
  if (counts.size) {
    return [...counts.keys()].sort((a, b) => counts.get(b) - counts.get(a) || a.length - b.length || byText(a, b))[0];
  }
  const first = there.length && there[0].includes("/") ? `${there[0].split("/")[0]}/` : "";
  return first && there.every((path) => path.startsWith(first)) ? first : "";
}

class Folder {
  constructor(kit, seen) {
    const paths = seen.files.map((one) => plain(one.path));
    const needed = [...kit.pieces.flatMap((piece) => piece.files), ...loaderFiles(kit)].map((one) => plain(one.path));
    for (const mark of [kit.loader_mark, kit.game_mark]) if (mark) needed.push(plain(mark.file));
    this.base = baseOf(needed, paths);
    const below = (path) => (path.startsWith(this.base) ? path.slice(this.base.length) : `../${path}`);
    const add = (map, key, value) => {
      if (!map.has(key)) map.set(key, []);
      map.get(key).push(value);
    };
    this.files = new Map(paths.map((path, number) => [below(path), seen.files[number]]));
    this.marks = new Map(Object.entries(seen.marks || {}).map(([path, said]) => [below(plain(path)), said]));
    this.hashes = new Map();
    this.beside = new Map(); // by the folder that they lie in
    this.folders = new Set();
    this.names = new Map();
    for (const path of [...this.files.keys()].sort(byText)) {
      let near = folderOf(path);
      add(this.beside, near, path);
      add(this.names, nameOf(path), path);
      const { sha256 } = this.files.get(path);
      if (sha256) add(this.hashes, sha256, path);
      while (near && !this.folders.has(near)) {
        this.folders.add(near);
        near = folderOf(near);
      }
    }
    this.said = new Map(); // paths of marks and versions by id
    for (const path of [...this.marks.keys()].sort(byText)) {
      const [id, version] = this.marks.get(path);
      add(this.said, id, [path, version]);
    }
    this.content = (kit.content || []).map(plain);
    this.stems = new Map();
    this.releases = new Map();
    this.others = new Map((kit.others || []).map((one) => [one.sha256, [one.id, one.version]]));
  }

  known(path) {
    return this.others.get(this.files.get(path).sha256 || "");
  }

  // Files in a folder that are known as releases of one content, or that nobody knows and are called so.
  like(near, called, id) {
    if (!this.stems.has(near)) {
      const stems = new Map();
      const releases = new Map();
      for (const path of this.beside.get(near) || []) {
        const said = this.known(path);
        const [map, key] = said ? [releases, said[0]] : [stems, stem(path)];
        if (!map.has(key)) map.set(key, []);
        map.get(key).push(path);
      }
      this.stems.set(near, stems);
      this.releases.set(near, releases);
    }
    return [...(this.stems.get(near).get(called) || []), ...(this.releases.get(near).get(id) || [])].sort(byText);
  }

  called(need) {
    return (this.names.get(nameOf(plain(need.path))) || []).filter((path) => {
      const have = this.files.get(path);
      return !have.sha256 && (have.size == null || have.size === need.size);
    });
  }

  inContent() {
    return [...new Set(this.content.flatMap((near) => this.beside.get(near) || []))].sort(byText);
  }
}

function problem(kind, more) {
  return { kind, id: "", title: "", path: "", have: "", need: "", ...more };
}

function stateOf(need, have) {
  if (!have) return "missing";
  if (have.sha256) {
    if (have.sha256 === need.sha256) return "good";
  } else if (have.size == null || have.size === need.size) {
    return "unknown";
  }
  return have.size != null && have.size < need.size ? "truncated" : "changed";
}

function judge(kit, seen) {
  const folder = new Folder(kit, seen);
  const problems = [...ofGame(kit, folder), ...ofLoader(kit, folder)];
  for (const piece of kit.pieces) {
    problems.push(...(piece.folder ? ofUnpacked(kit, piece, folder) : ofArchive(piece, folder)));
  }
  problems.push(...ofClashes(kit, folder));
  if (kit.strict) problems.push(...notAllowed(kit, folder, problems));
  problems.push(...ofOverlay(kit, folder));
  const wanted = [];
  for (const one of problems) {
    const name = one.kind === "no-loader" || one.kind === "wrong-loader" ? "loader" : one.id;
    if (AGAIN.has(one.kind) && !wanted.includes(name)) wanted.push(name);
  }
  let verdict = "yes";
  if (problems.some((one) => BLOCKING.has(one.kind))) verdict = "no";
  else if (problems.some((one) => one.kind === "unknown") || seen.whole === false) verdict = "unknown";
  return { verdict, base: folder.base, problems, wanted };
}

function ofGame(kit, folder) {
  const said = kit.game_mark && folder.marks.get(plain(kit.game_mark.file));
  if (!said || said[1] === kit.game_version || (kit.also_game || []).includes(said[1])) return [];
  return [problem("wrong-game", { title: kit.game_title, have: said[1], need: kit.game_version })];
}

function ofLoader(kit, folder) {
  const loader = kit.loader;
  if (!loader) return [];
  const need = `${loader.title} ${loader.build}`;
  const place = kit.loader_mark && plain(kit.loader_mark.file);
  const said = place && folder.marks.get(place);
  if (said) {
    if ((said[0] || loader.id) !== loader.id || said[1] !== loader.build) {
      const have = said[0] && said[0] !== loader.id ? `${said[0]} ${said[1]}` : `${loader.title} ${said[1]}`;
      return [problem("wrong-loader", { title: loader.title, have, need })];
    }
  } else if (place && !folder.files.has(place)) {
    return [problem("no-loader", { title: loader.title, need })];
  }
  for (const file of loaderFiles(kit)) {
    const state = stateOf(file, folder.files.get(plain(file.path)));
    if (["missing", "truncated", "changed"].includes(state)) {
      return [problem("no-loader", { title: loader.title, path: file.path, need })];
    }
    if (state === "unknown") return [problem("unknown", { title: loader.title, path: file.path, need: loader.build })];
  }
  return [];
}

const neededOnly = (piece, one) => (piece.optional ? { ...one, kind: "optional-differs" } : one);

function ofArchive(piece, folder) {
  const file = piece.files[0];
  const place = plain(piece.place);
  const near = folderOf(place);
  const told = { id: piece.id, title: piece.title, need: piece.version };
  let state = stateOf(file, folder.files.get(place));
  const good = (folder.hashes.get(file.sha256) || []).filter((path) => folderOf(path) === near);
  if (["missing", "changed", "truncated"].includes(state) && good.length) state = "good";
  const others = otherReleases(piece, folder, [place, ...good]);
  const problems = [];
  if (state === "truncated" || state === "changed") {
    const said = folder.known(place);
    if (said && said[0] === piece.id) {
      problems.push(neededOnly(piece, problem("other-release", { ...told, path: piece.place, have: said[1] })));
    } else {
      problems.push(problem(state, { ...told, path: piece.place }));
    }
  } else if (state === "unknown") {
    problems.push(problem("unknown", { ...told, path: piece.place }));
  } else if (state === "missing") {
    let elsewhere = folder.hashes.get(file.sha256) || [];
    if (!elsewhere.length) elsewhere = folder.called(file);
    if (elsewhere.length) {
      const found = { ...told, need: piece.place, path: elsewhere[0], have: elsewhere[0] };
      problems.push(neededOnly(piece, problem("wrong-folder", found)));
    } else if (others.length) {
      const [path, have] = others.shift();
      problems.push(neededOnly(piece, problem("other-release", { ...told, path, have })));
    } else if (!piece.optional) {
      problems.push(problem("missing", { ...told, path: piece.place }));
    }
  }
  for (const [path, have] of others) problems.push(problem("two-releases", { ...told, path, have }));
  return problems;
}

function otherReleases(piece, folder, own) {
  const ending = endingOf(piece.place);
  const found = [];
  for (const path of folder.like(folderOf(plain(piece.place)), stem(piece.place), piece.id)) {
    const said = folder.known(path);
    if (own.includes(path)) continue;
    if (said) found.push([path, said[1]]);
    else if (folder.files.get(path).sha256 !== piece.files[0].sha256 && path.endsWith(ending)) {
      found.push([path, nameOf(path)]);
    }
  }
  return found;
}

function ofUnpacked(kit, piece, folder) {
  const place = plain(piece.place);
  const near = folderOf(place);
  const mark = (kit.versions || {})[piece.kind];
  const told = { id: piece.id, title: piece.title, need: piece.version };
  const homes = ((mark && folder.said.get(piece.id)) || [])
    .filter(([path]) => path.endsWith(`/${plain(mark.file)}`))
    .map(([path, version]) => [path.slice(0, path.length - plain(mark.file).length - 1), version]);
  let here = homes.filter(([home]) => folderOf(home) === near);
  if (!here.length && folder.folders.has(place)) here = [[place, ""]];
  if (!here.length) {
    if (homes.length) {
      const found = { ...told, need: piece.place, path: homes[0][0], have: homes[0][0] };
      return [neededOnly(piece, problem("wrong-folder", found))];
    }
    return piece.optional ? [] : [problem("missing", { ...told, path: piece.place })];
  }
  here.sort((a, b) => (a[0] !== place) - (b[0] !== place)
    || (a[1] !== piece.version) - (b[1] !== piece.version) || byText(a[0], b[0]));
  const [[home, version], ...more] = here;
  const problems = more.map(([path, have]) => problem("two-releases", { ...told, path, have }));
  if (version !== "" && version !== piece.version) {
    return [neededOnly(piece, problem("other-release", { ...told, path: home, have: version })), ...problems];
  }
  for (const file of piece.files) {
    const path = `${home}${plain(file.path).slice(place.length)}`;
    const state = stateOf(file, folder.files.get(path));
    if (state !== "good") {
      return [problem(state === "missing" ? "truncated" : state, { ...told, path }), ...problems];
    }
  }
  return problems;
}

function ofClashes(kit, folder) {
  if (!(kit.clashes || []).length) return [];
  const titles = new Map(kit.pieces.map((one) => [one.id, one.title]));
  const there = folder.inContent().map((path) => [path, folder.known(path)]);
  const unknown = there.filter(([, said]) => !said).map(([path]) => [path, stem(path)]);
  const problems = [];
  for (const clash of kit.clashes) {
    const told = { id: clash.id, title: clash.title, need: titles.get(clash.beside) || "" };
    const paths = [
      ...there.filter(([, said]) => said && said[0] === clash.id && clash.versions.includes(said[1])),
      ...unknown.filter(([, name]) => (clash.names || []).includes(name)),
    ].map(([path]) => path).sort(byText);
    for (const path of paths) problems.push(problem("clash", { ...told, path }));
    for (const [path, version] of folder.said.get(clash.id) || []) {
      if (clash.versions.includes(version)) problems.push(problem("clash", { ...told, path: folderOf(path) }));
    }
  }
  return problems;
}

function notAllowed(kit, folder, told) {
  const ours = new Set(kit.pieces.map((one) => one.id));
  const places = new Set(kit.pieces.map((one) => plain(one.place)));
  const endings = kit.pieces.filter((one) => !one.folder).map((one) => endingOf(one.place));
  const hashes = new Set(kit.pieces.flatMap((one) => one.files.map((file) => file.sha256)));
  const said = new Set(told.map((one) => one.path));
  const problems = [];
  for (const path of folder.inContent()) {
    if (!places.has(path) && !said.has(path) && !hashes.has(folder.files.get(path).sha256)
      && endings.some((ending) => ending && path.endsWith(ending))) {
      problems.push(problem("not-allowed", { title: nameOf(path), path }));
    }
  }
  for (const path of [...folder.marks.keys()].sort(byText)) {
    const [name, version] = folder.marks.get(path);
    const home = folderOf(path);
    if (name && !ours.has(name) && !said.has(home) && folder.content.includes(folderOf(home))) {
      problems.push(problem("not-allowed", { id: name, title: name, path: home, have: version }));
    }
  }
  return problems;
}

function ofOverlay(kit, folder) {
  return (kit.overlay || []).filter((file) => {
    const state = stateOf(file, folder.files.get(plain(file.path)));
    return state !== "good" && state !== "unknown";
  }).map((file) => problem("settings-differ", { path: file.path }));
}
