// Hashes files one after the other. Gets {id, file, small}, answers {id, sha256} or {id, failed}; {id, bytes} between.
"use strict";

const hex = (buffer) => [...new Uint8Array(buffer)].map((one) => one.toString(16).padStart(2, "0")).join("");
let hasher = null;

async function sha256Of(file, tell) {
  if (self.crypto && self.crypto.subtle && file.size <= 16777216) {
    const digest = hex(await self.crypto.subtle.digest("SHA-256", await file.arrayBuffer()));
    tell(file.size);
    return digest;
  }
  if (!hasher) hasher = await self.hashwasm.createSHA256();
  hasher.init();
  const reader = file.stream().getReader();
  for (;;) {
    const { done, value } = await reader.read();
    if (done) return hasher.digest("hex");
    hasher.update(value);
    tell(value.length);
  }
}

self.onmessage = async ({ data: { id, file } }) => {
  try {
    const sha256 = await sha256Of(file, (bytes) => self.postMessage({ id, bytes }));
    self.postMessage({ id, sha256 });
  } catch (wrong) {
    self.postMessage({ id, failed: String(wrong) });
  }
};
