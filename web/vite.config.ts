import { readdir, readFile, writeFile } from "node:fs/promises";
import { brotliCompressSync, gzipSync } from "node:zlib";
import tailwindcss from "@tailwindcss/vite";
import react from "@vitejs/plugin-react";
import { defineConfig, type Plugin } from "vite";

/** What is built, also compressed, so that the server has nothing to do but send it. */
const compressed: Plugin = {
  name: "compressed",
  async closeBundle() {
    const folder = new URL("dist/assets/", import.meta.url);
    for (const name of await readdir(folder)) {
      if (!/\.(js|css)$/.test(name)) continue;
      const file = new URL(name, folder);
      const whole = await readFile(file);
      await writeFile(new URL(`${name}.gz`, folder), gzipSync(whole, { level: 9 }));
      await writeFile(new URL(`${name}.br`, folder), brotliCompressSync(whole));
    }
  },
};

export default defineConfig({
  plugins: [react(), tailwindcss(), compressed],
  build: { chunkSizeWarningLimit: 900, sourcemap: false },
});
