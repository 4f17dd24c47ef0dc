// Keeps the field pages on the phone: what is listed here opens without a line. Data are not its business.
const { version, files } = self.EBREL;

self.addEventListener("install", (event) => {
  const fetched = (file) => new Request(file, { cache: "reload" });
  event.waitUntil(caches.open(version).then((cache) => cache.addAll(files.map(fetched))).then(() => self.skipWaiting()));
});

self.addEventListener("activate", (event) => {
  const old = (names) => names.filter((n) => n.startsWith("ebrel-field-") && n !== version).map((n) => caches.delete(n));
  event.waitUntil(caches.keys().then((names) => Promise.all(old(names))).then(() => self.clients.claim()));
});

self.addEventListener("fetch", (event) => {
  const url = new URL(event.request.url);
  if (event.request.method !== "GET" || url.origin !== location.origin) return;
  const file = event.request.mode === "navigate" && url.pathname.startsWith("/field/") ? "/field/" : url.pathname;
  if (!files.includes(file)) return;
  event.respondWith(caches.match(file).then((kept) => kept ?? fetch(event.request)));
});
