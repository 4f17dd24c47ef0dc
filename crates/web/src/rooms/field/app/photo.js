// Photographs: made smaller on the phone before they are kept, so that a weak line can carry them.
import { gps, parse } from "/assets/vendor/exifr/exifr.js";
import * as keep from "./keep.js";
import { button, h, input, says } from "./ui.js";

const LONGEST_EDGE = 1600;

async function smaller(file) {
  const image = await createImageBitmap(file);
  const share = Math.min(1, LONGEST_EDGE / Math.max(image.width, image.height));
  const canvas = new OffscreenCanvas(Math.round(image.width * share), Math.round(image.height * share));
  canvas.getContext("2d").drawImage(image, 0, 0, canvas.width, canvas.height);
  return canvas.convertToBlob({ type: "image/jpeg", quality: 0.82 });
}

/** When and where the camera says that it was: what is made smaller knows neither any more. */
async function told(file) {
  const tags = await parse(file, { pick: ["DateTimeOriginal"], reviveValues: false }).catch(() => null);
  const at = /^(\d{4}):(\d\d):(\d\d) (\d\d:\d\d:\d\d)/.exec(tags?.DateTimeOriginal ?? "");
  const where = await gps(file).catch(() => null);
  const known = Number.isFinite(where?.latitude) && Number.isFinite(where?.longitude);
  return {
    ...(at ? { taken: `${at[1]}-${at[2]}-${at[3]} ${at[4]}` } : {}),
    ...(known ? { place: [Number(where.latitude.toFixed(6)), Number(where.longitude.toFixed(6))] } : {}),
  };
}

export function photograph(context) {
  const place = h("div", { role: "status" });
  const caption = input({ id: "caption", placeholder: "what it shows" });
  const choose = input({ type: "file", accept: "image/*", id: "photo", ariaLabel: "Photograph" });
  choose.setAttribute("capture", "environment");
  return h("div", {}, choose, caption, place, button("Keep the photograph", async () => {
    const file = choose.files[0];
    if (!file) return place.replaceChildren(says("Take or choose a picture first.", "bad"));
    try {
      const blob = await smaller(file);
      const hash = await crypto.subtle.digest("SHA-256", await blob.arrayBuffer());
      const sha256 = [...new Uint8Array(hash)].map((b) => b.toString(16).padStart(2, "0")).join("");
      await keep.addPhoto({ sha256, blob, stationId: context.pack.station, sent: false });
      await context.add({ kind: "photo", sha256, caption: caption.value.trim(), ...(await told(file)) });
      return context.again();
    } catch {
      return place.replaceChildren(says("This file is no picture that the phone can read.", "bad"));
    }
  }));
}
