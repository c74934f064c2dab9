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
    const match = compiled.exec(line);
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
    this.files = new Map();
    this.hashes = new Map();
    paths.forEach((path, number) => {
      const one = seen.files[number];
      const here = below(path);
      this.files.set(here, one);
      if (one.sha256) {
        if (!this.hashes.has(one.sha256)) this.hashes.set(one.sha256, []);
        this.hashes.get(one.sha256).push(here);
      }
    });
    this.marks = new Map(Object.entries(seen.marks || {}).map(([path, said]) => [below(plain(path)), said]));
    this.content = (kit.content || []).map((one) => `${plain(one)}/`);
    this.sorted = [...this.files.keys()].sort(byText);
  }

  called(need) {
    const name = nameOf(plain(need.path));
    return this.sorted.filter((path) => {
      const have = this.files.get(path);
      return nameOf(path) === name && !have.sha256 && (have.size == null || have.size === need.size);
    });
  }

  inContent(path) {
    return this.content.some((one) => path.startsWith(one) && !path.slice(one.length).includes("/"));
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
  const known = new Map((kit.others || []).map((one) => [one.sha256, [one.id, one.version]]));
  const problems = [...ofGame(kit, folder), ...ofLoader(kit, folder)];
  for (const piece of kit.pieces) {
    problems.push(...(piece.folder ? ofUnpacked(kit, piece, folder) : ofArchive(piece, folder, known)));
  }
  problems.push(...ofClashes(kit, folder, known));
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
  if (!said || said[1] === kit.game_version) return [];
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

function ofArchive(piece, folder, known) {
  const file = piece.files[0];
  const place = plain(piece.place);
  const near = folderOf(place);
  const told = { id: piece.id, title: piece.title, need: piece.version };
  let state = stateOf(file, folder.files.get(place));
  const good = (folder.hashes.get(file.sha256) || []).filter((path) => folderOf(path) === near);
  if (["missing", "changed", "truncated"].includes(state) && good.length) state = "good";
  const others = otherReleases(piece, folder, known, [place, ...good]);
  const problems = [];
  if (state === "truncated" || state === "changed") {
    const said = known.get(folder.files.get(place).sha256 || "");
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

function otherReleases(piece, folder, known, own) {
  const near = folderOf(plain(piece.place));
  const called = stem(piece.place);
  const found = [];
  for (const path of folder.sorted) {
    if (own.includes(path) || folderOf(path) !== near) continue;
    const have = folder.files.get(path);
    const said = known.get(have.sha256 || "");
    if (said) {
      if (said[0] === piece.id) found.push([path, said[1]]);
    } else if (have.sha256 !== piece.files[0].sha256 && stem(path) === called
      && path.endsWith(endingOf(piece.place))) {
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
  const homes = [];
  for (const path of [...folder.marks.keys()].sort(byText)) {
    const said = folder.marks.get(path);
    if (mark && said[0] === piece.id && path.endsWith(`/${plain(mark.file)}`)) {
      homes.push([path.slice(0, path.length - plain(mark.file).length - 1), said[1]]);
    }
  }
  let here = homes.filter(([home]) => folderOf(home) === near);
  if (!here.length && folder.sorted.some((path) => path.startsWith(`${place}/`))) here = [[place, ""]];
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

function ofClashes(kit, folder, known) {
  const titles = new Map(kit.pieces.map((one) => [one.id, one.title]));
  const problems = [];
  for (const clash of kit.clashes || []) {
    const told = { id: clash.id, title: clash.title, need: titles.get(clash.beside) || "" };
    for (const path of folder.sorted) {
      if (!folder.inContent(path)) continue;
      const said = known.get(folder.files.get(path).sha256 || "");
      const byName = !said && (clash.names || []).includes(stem(path));
      if (byName || (said && said[0] === clash.id && clash.versions.includes(said[1]))) {
        problems.push(problem("clash", { ...told, path }));
      }
    }
    for (const path of [...folder.marks.keys()].sort(byText)) {
      const said = folder.marks.get(path);
      if (said[0] === clash.id && clash.versions.includes(said[1])) {
        problems.push(problem("clash", { ...told, path: folderOf(path) }));
      }
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
  for (const path of folder.sorted) {
    const have = folder.files.get(path);
    if (folder.inContent(path) && !places.has(path) && !said.has(path) && !hashes.has(have.sha256)
      && endings.some((ending) => ending && path.endsWith(ending))) {
      problems.push(problem("not-allowed", { title: nameOf(path), path }));
    }
  }
  for (const path of [...folder.marks.keys()].sort(byText)) {
    const [name, version] = folder.marks.get(path);
    const home = folderOf(path);
    if (name && !ours.has(name) && !said.has(home) && folder.inContent(home)) {
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
