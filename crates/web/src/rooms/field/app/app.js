// The field pages: one document, its places by the hash, everything kept on the phone first.
import * as keep from "./keep.js";
import * as send from "./send.js";
import { home } from "./home.js";
import { station } from "./station.js";
import { log } from "./log.js";
import { button, h, says } from "./ui.js";

const main = document.getElementById("main");
const line = document.getElementById("line");

/** The line at the top: what is here, what is there, and since when. */
async function count() {
  const c = await keep.counts();
  const when = c.last ? new Date(c.last).toTimeString().slice(0, 5) : "never";
  line.replaceChildren(
    h("span", { id: "kept" }, `kept here ${c.kept}`),
    h("span", { id: "sent" }, `sent ${c.sent}`),
    h("span", {}, `last ${when}`),
    ...(c.refused ? [h("a", { href: "#/refused", className: "bad" }, `refused ${c.refused}`)] : []),
  );
}

const WHY = {
  offline: "No line. Everything is kept here and is sent when there is one.",
  "sign-in": "Your sign-in has ended. What is kept here stays; sign in and it is sent.",
};

/** Sends, and says what keeps it from being sent. */
async function sendNow() {
  const said = await send.send();
  const place = document.getElementById("why");
  place.replaceChildren();
  if (said) place.append(says(WHY[said] ?? said, said === "offline" ? "" : "bad"));
  if (said === "sign-in") place.append(h("a", { href: "/sign-in", className: "big" }, "Sign in"));
  await count();
}

const PLACES = [
  [/^#?\/?$/, () => home()],
  [/^#\/s\/(\d+)$/, (id) => station(id)],
  [/^#\/s\/(\d+)\/(installation|visit|round|removal)\/([\w-]+)$/, (id, kind, number) => log(id, kind, number)],
  [/^#\/refused$/, () => refused()],
];

async function refused() {
  const list = (await keep.unsent()).filter((e) => e.state === "refused");
  return h("div", {}, h("h1", {}, "Refused"),
    h("p", {}, "These entries stay here with their reason. Put right what is in their way (or enter them anew), and send them again."),
    ...list.map((e) => h("div", { className: "card bad" }, h("p", {}, h("b", {}, e.deed.kind), ` ${JSON.stringify(e.deed)}`), says(e.says, "bad"))),
    button("Send them again", async () => { await send.again(); await sendNow(); location.hash = "#/"; }, "big"));
}

async function show() {
  const at = location.hash;
  for (const [pattern, view] of PLACES) {
    const found = pattern.exec(at);
    if (!found) continue;
    main.replaceChildren(await view(...found.slice(1)));
    main.querySelector("h1")?.focus();
    scrollTo(0, 0);
    document.documentElement.dataset.place = at;
    return;
  }
  location.hash = "#/";
}

let soon;
document.addEventListener("field:kept", () => {
  count();
  clearTimeout(soon);
  soon = setTimeout(sendNow, 400);
});
document.addEventListener("field:sent", count);
document.addEventListener("field:show", show);
addEventListener("hashchange", show);
addEventListener("online", sendNow);
document.getElementById("send").addEventListener("click", sendNow);

if ("serviceWorker" in navigator && isSecureContext) {
  navigator.serviceWorker.register("/field/sw.js", { scope: "/field/" }).catch(() => {});
  navigator.serviceWorker.ready.then(() => { document.documentElement.dataset.offline = "ready"; });
  // Asked once: so that a full phone does not throw the log away.
  navigator.storage?.persist?.();
} else {
  document.getElementById("why").append(says("This address is not secure, so the page cannot open without a line: keep it open, or carry the entries as a file. What is entered is kept all the same.", "bad"));
}
await show();
await sendNow();
