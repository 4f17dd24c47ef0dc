// Numbers made on the device: time first, then chance, so that two phones never make the same (RFC 9562, version 7).

export function newId(now = Date.now()) {
  const bytes = crypto.getRandomValues(new Uint8Array(16));
  for (let i = 5, left = now; i >= 0; i -= 1, left = Math.floor(left / 256)) bytes[i] = left % 256;
  bytes[6] = (bytes[6] & 0x0f) | 0x70;
  bytes[8] = (bytes[8] & 0x3f) | 0x80;
  const hex = [...bytes].map((b) => b.toString(16).padStart(2, "0")).join("");
  return [hex.slice(0, 8), hex.slice(8, 12), hex.slice(12, 16), hex.slice(16, 20), hex.slice(20)].join("-");
}
