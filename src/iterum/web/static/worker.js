/* Pages that a pilot needs without the link: the newest ones seen are kept; with the link nothing is taken from there. */

importScripts("/shell.js");
const SHELL = self.shell.name;
const PATIENCE_MS = 4000;
const MOST = 120;
const AHEAD = ["/no-link", "/wrong"].map((url) => new Request(url, { headers: { "X-Unseen": "yes" } }));
const PAGES = ["/measure", "/run/", "/wrong", "/no-link"];

self.addEventListener("install", (event) => {
  event.waitUntil(caches.open(SHELL).then((cache) => cache.addAll([...AHEAD, ...self.shell.files])));
  self.skipWaiting();
});

self.addEventListener("activate", (event) => {
  const old = (names) => names.filter((name) => name !== SHELL).map((name) => caches.delete(name));
  event.waitUntil(caches.keys().then((names) => Promise.all(old(names))));
  event.waitUntil(self.clients.claim());
});

function isAsset(url) {
  return url.pathname.startsWith("/static/");
}

function isPage(url) {
  return PAGES.some((page) => url.pathname.startsWith(page)) && !/\/(live|alarms)$/.test(url.pathname);
}

async function keep(request, answer) {
  const cache = await caches.open(SHELL);
  await cache.put(request, answer);
  const pages = (await cache.keys()).filter((one) => !isAsset(new URL(one.url)));
  await Promise.all(pages.slice(0, Math.max(pages.length - MOST, 0)).map((one) => cache.delete(one)));
}

async function withLink(request) {
  const gone = new AbortController();
  const timer = setTimeout(() => gone.abort(), request.mode === "navigate" ? 2 * PATIENCE_MS : PATIENCE_MS);
  try {
    return await fetch(request, { signal: gone.signal });
  } finally {
    clearTimeout(timer);
  }
}

/* What stands under the address of a version never changes. */
async function asset(request) {
  return (await caches.match(request)) || fetch(request);
}

async function answer(event, url) {
  const { request } = event;
  const wanted = isPage(url);
  try {
    /* What is kept is not waited for long; a file that takes its time is waited for as without a worker. */
    const come = await (wanted ? withLink(request) : fetch(request));
    if (wanted && come.ok && !come.redirected) {
      event.waitUntil(keep(request.mode === "navigate" ? request.url : request, come.clone()));
    }
    return come;
  } catch (error) {
    const kept = wanted && (await caches.match(request, { ignoreVary: true }));
    if (kept) {
      return kept;
    }
    /* Of Measure and Run never another page than the one that was asked for: it is of another pack. */
    const help = url.pathname.startsWith("/wrong");
    const alike = help && (await caches.match(request, { ignoreSearch: true, ignoreVary: true }));
    if (request.mode === "navigate") {
      return alike || (await caches.match("/no-link")) || Response.error();
    }
    throw error;
  }
}

self.addEventListener("fetch", (event) => {
  const url = new URL(event.request.url);
  const ours = event.request.method === "GET" && url.origin === self.location.origin;
  if (ours && isAsset(url)) {
    event.respondWith(asset(event.request));
  } else if (ours && (event.request.mode === "navigate" || isPage(url))) {
    event.respondWith(answer(event, url));
  }
});
