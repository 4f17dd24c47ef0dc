// The label's code by camera: by the browser where it can, else by a decoder that came along.
import { button, h } from "./ui.js";

async function reader() {
  if ("BarcodeDetector" in window) {
    const detector = new BarcodeDetector({ formats: ["qr_code"] });
    return async (video) => (await detector.detect(video))[0]?.rawValue;
  }
  if (!window.jsQR) await import("/assets/vendor/jsqr/jsQR.js");
  const canvas = new OffscreenCanvas(1, 1);
  return async (video) => {
    canvas.width = video.videoWidth;
    canvas.height = video.videoHeight;
    const context = canvas.getContext("2d", { willReadFrequently: true });
    context.drawImage(video, 0, 0);
    const { data, width, height } = context.getImageData(0, 0, canvas.width, canvas.height);
    return window.jsQR(data, width, height)?.data;
  };
}

/** Looks through the camera until a code is seen; null if it is given up. */
export async function scan(tell) {
  let stream;
  try {
    stream = await navigator.mediaDevices.getUserMedia({ video: { facingMode: "environment" } });
  } catch {
    tell("The camera is not to be had: type the last digits of the serial instead.");
    return null;
  }
  const video = h("video", { autoplay: true, muted: true, playsInline: true });
  video.srcObject = stream;
  let stop = false;
  const box = h("div", { className: "scan" }, video, button("Give up", () => { stop = true; }, "big"));
  document.body.append(box);
  const read = await reader();
  let found = null;
  while (!stop && !found) {
    await new Promise((r) => setTimeout(r, 120));
    if (video.readyState >= 2) found = await read(video).catch(() => null);
  }
  stream.getTracks().forEach((t) => t.stop());
  box.remove();
  return found ?? null;
}
