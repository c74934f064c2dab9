// The page for players: what it does beside showing itself. Text from elsewhere is only ever set as text.
"use strict";

const element = (id) => document.getElementById(id);
const read = (id) => JSON.parse(element(id).textContent);
const kit = read("kit");
const texts = read("texts");
const MOST_FILES = 50000;
const LARGEST_MARK = 65536;
const STALE_SECONDS = 90;
let running = null;

function say(name, words) {
  let text = texts[name] || name;
  for (const [word, value] of Object.entries(words || {})) text = text.replaceAll(`{${word}}`, String(value));
  return text;
}

function put(parent, tag, text, attributes) {
  const made = document.createElement(tag);
  if (text !== undefined) made.textContent = text;
  for (const [name, value] of Object.entries(attributes || {})) made.setAttribute(name, value);
  parent.append(made);
  return made;
}

// ---- the visitor's own system

function ownSystem() {
  const said = `${(navigator.userAgentData && navigator.userAgentData.platform) || navigator.platform || ""}`;
  if (/mac|iphone|ipad/i.test(said)) return "macos";
  return /linux|x11|android|bsd/i.test(said) && !/win/i.test(said) ? "linux" : "windows";
}

function chooseSystem() {
  const radios = [...document.querySelectorAll("input[name=system]")];
  const show = () => radios.forEach((radio) => {
    element(`steps-${radio.value}`).hidden = !radio.checked;
  });
  const own = radios.find((radio) => radio.value === ownSystem()) || radios[0];
  if (own) own.checked = true;
  radios.forEach((radio) => radio.addEventListener("change", show));
  element("systems").hidden = radios.length < 2;
  show();
}

// ---- the address

async function copyAddress() {
  const text = element("address").textContent;
  try {
    await navigator.clipboard.writeText(text);
  } catch {
    const range = document.createRange();
    range.selectNodeContents(element("address"));
    const selection = window.getSelection();
    selection.removeAllRanges();
    selection.addRange(range);
    document.execCommand("copy");
  }
  element("copied").textContent = say("page.copied");
}

// ---- whether the server is up

async function showStatus() {
  let text = "page.state-unknown";
  try {
    if (location.protocol === "file:") throw new Error("a file may fetch nothing");
    const answer = await fetch("status.json", { cache: "no-store" });
    if (!answer.ok) throw new Error(answer.status);
    const status = await answer.json();
    const now = Date.parse(answer.headers.get("date") || "") || Date.now();
    const up = { ready: "page.up", starting: "page.starting", stopping: "page.up" }[status.state];
    if (!up) text = "page.down";
    else if (now / 1000 - status.written <= STALE_SECONDS) text = up;
  } catch { /* not known */ }
  element("state").textContent = say(text);
  element("state").dataset.state = text;
}

// ---- the player's folder

function workers(count) {
  const source = `${element("hash").textContent}\n${element("worker").textContent}`;
  const address = URL.createObjectURL(new Blob([source], { type: "text/javascript" }));
  return Array.from({ length: count }, () => new Worker(address));
}

async function hashed(files, tell, stopped) {
  const found = new Map();
  const queue = [...files];
  const pool = workers(Math.max(1, Math.min(navigator.hardwareConcurrency || 2, 4, queue.length)));
  const one = (worker) => new Promise((finished) => {
    const next = () => {
      const item = stopped() ? undefined : queue.shift();
      if (!item) {
        worker.terminate();
        finished();
        return;
      }
      worker.onmessage = ({ data }) => {
        if (data.bytes !== undefined) {
          tell(data.bytes);
          return;
        }
        found.set(item.path, data.sha256 || null);
        next();
      };
      worker.onerror = () => {
        found.set(item.path, null);
        next();
      };
      worker.postMessage({ id: 0, file: item.file });
    };
    next();
  });
  await Promise.all(pool.map(one));
  return found;
}

async function seenIn(list, tell, stopped) {
  const items = list.map((file) => ({ path: file.webkitRelativePath || file.name, file }));
  const worth = new Set(worthHashing(kit, items.map((item) => [item.path, item.file.size])));
  const chosen = items.filter((item) => worth.has(item.path));
  const all = chosen.reduce((sum, item) => sum + item.file.size, 0);
  let done = 0;
  const hashes = await hashed(chosen, (bytes) => {
    done += bytes;
    tell(done, all);
  }, stopped);
  const marks = {};
  for (const item of items) {
    const pattern = markFor(kit, item.path);
    if (pattern && item.file.size <= LARGEST_MARK) {
      try {
        const said = readMark(pattern, await item.file.text());
        if (said) marks[item.path] = said;
      } catch { /* it cannot be read */ }
    }
  }
  const files = items.map(({ path, file }) => ({ path, size: file.size, sha256: hashes.get(path) || null }));
  return { files, marks, whole: true, unread: chosen.filter((item) => !hashes.get(item.path)).length };
}

const size = (bytes) => (bytes < 1e6 ? `${Math.round(bytes / 1e3)} kB` : `${Math.round(bytes / 1e6)} MB`);

async function check(list) {
  const result = element("result");
  const progress = element("progress");
  result.replaceChildren();
  if (list.length > MOST_FILES) {
    put(result, "p", say("page.too-many", { count: list.length }));
    return;
  }
  const mine = { stopped: false };
  if (running) running.stopped = true;
  running = mine;
  element("stop").hidden = false;
  progress.hidden = false;
  const tell = (done, all) => {
    const percent = all ? Math.floor((100 * done) / all) : 100;
    progress.value = percent;
    element("reading").textContent = say("page.reading", { done: size(done), all: size(all), percent });
  };
  tell(0, 1);
  const seen = await seenIn([...list], tell, () => mine.stopped);
  progress.hidden = true;
  element("stop").hidden = true;
  element("reading").textContent = mine.stopped ? say("page.cancelled") : "";
  if (!mine.stopped) showFit(judge(kit, seen), seen);
}

function showFit(fit, seen) {
  const result = element("result");
  const verdict = put(result, "p", say(fit.verdict), { class: "verdict", "data-verdict": fit.verdict, tabindex: "-1" });
  const first = fit.problems.filter((one) => BLOCKING.has(one.kind));
  const rest = fit.problems.filter((one) => !BLOCKING.has(one.kind));
  const needed = kit.pieces.filter((one) => !one.optional).length;
  if (needed && fit.problems.filter((one) => one.kind === "missing").length === needed) {
    put(result, "p", say("page.nothing"));
  }
  if (fit.verdict === "yes") put(result, "p", say("whole-set", { count: kit.pieces.length }));
  if (first.length || rest.length) {
    const list = put(result, "ul");
    for (const one of [...first, ...rest]) {
      const words = { title: one.title || one.path, have: one.have, need: one.need, path: one.path };
      const item = put(list, "li", undefined, { class: BLOCKING.has(one.kind) ? "bad" : "note", "data-kind": one.kind });
      put(item, "strong", say(`problem.${one.kind}`, words));
      item.append(" ");
      put(item, "span", say(`step.${one.kind}`, words));
    }
  }
  if (seen.unread) put(result, "p", say("page.unreadable", { count: seen.unread }));
  const files = neededFiles(fit.wanted);
  if (files.length && location.protocol !== "file:") {
    const button = put(result, "button", say("page.get-missing"), { type: "button", id: "get" });
    const status = put(result, "p", "", { role: "status" });
    button.addEventListener("click", () => getMissing(files, status));
  }
  verdict.focus();
}

// ---- just what is missing, as a zip that is made here

function neededFiles(wanted) {
  const pieces = kit.pieces.filter((one) => wanted.includes(one.id) && one.packed !== false);
  return [...pieces.flatMap((one) => one.files), ...(wanted.includes("loader") ? loaderFiles(kit) : [])];
}

const crcTable = Uint32Array.from({ length: 256 }, (_, number) => {
  let value = number;
  for (let bit = 0; bit < 8; bit += 1) value = value & 1 ? (value >>> 1) ^ 0xedb88320 : value >>> 1;
  return value >>> 0;
});

function crcOf(bytes) {
  let value = 0xffffffff;
  for (let at = 0; at < bytes.length; at += 1) value = crcTable[(value ^ bytes[at]) & 255] ^ (value >>> 8);
  return (value ^ 0xffffffff) >>> 0;
}

// A zip of stored entries (APPNOTE 6.3.10, sections 4.3.7, 4.3.12 and 4.3.16), names in UTF-8.
function zipOf(entries) {
  const parts = [];
  const directory = [];
  let at = 0;
  for (const [name, bytes] of entries) {
    const text = new TextEncoder().encode(name);
    const common = [20, 0, 0, 8, 0, 0, 0, 0, 33, 0];
    const facts = new DataView(new ArrayBuffer(12));
    facts.setUint32(0, crcOf(bytes), true);
    facts.setUint32(4, bytes.length, true);
    facts.setUint32(8, bytes.length, true);
    const lengths = [text.length & 255, text.length >> 8, 0, 0];
    const local = [80, 75, 3, 4, ...common, ...new Uint8Array(facts.buffer), ...lengths];
    parts.push(new Uint8Array(local), text, bytes);
    const place = new DataView(new ArrayBuffer(4));
    place.setUint32(0, at, true);
    directory.push(new Uint8Array([80, 75, 1, 2, 20, 0, ...common, ...new Uint8Array(facts.buffer), ...lengths,
      0, 0, 0, 0, 0, 0, 0, 0, 0, 0, ...new Uint8Array(place.buffer)]), text);
    at += local.length + text.length + bytes.length;
  }
  const length = directory.reduce((sum, one) => sum + one.length, 0);
  const end = new DataView(new ArrayBuffer(22));
  end.setUint32(0, 0x06054b50, true);
  end.setUint16(8, entries.length, true);
  end.setUint16(10, entries.length, true);
  end.setUint32(12, length, true);
  end.setUint32(16, at, true);
  return new Blob([...parts, ...directory, end.buffer], { type: "application/zip" });
}

async function getMissing(files, status) {
  try {
    const entries = [];
    for (const [number, file] of files.entries()) {
      status.textContent = say("page.get-preparing", { done: number, all: files.length });
      const answer = await fetch(`files/${file.sha256}`);
      if (!answer.ok) throw new Error(answer.status);
      const bytes = new Uint8Array(await answer.arrayBuffer());
      if (bytes.length !== file.size) throw new Error("size");
      entries.push([`game/${file.path}`, bytes]);
    }
    const link = document.createElement("a");
    link.href = URL.createObjectURL(zipOf(entries));
    link.download = `${kit.server}-missing.zip`;
    link.click();
    status.textContent = "";
  } catch {
    status.textContent = say("page.get-failed");
  }
}

chooseSystem();
if (element("copy")) element("copy").addEventListener("click", copyAddress);
element("check").hidden = false;
element("folder").addEventListener("change", (event) => check(event.target.files));
element("stop").addEventListener("click", () => {
  if (running) running.stopped = true;
});
showStatus();
if (location.protocol !== "file:") setInterval(showStatus, 30000);
