// Calls functions of one module of the front end: a line of JSON in, a line of JSON out. Node strips the types.
import { registerHooks } from "node:module";
import { createInterface } from "node:readline";
import { pathToFileURL } from "node:url";

const [source, module] = process.argv.slice(2);
const main = pathToFileURL(`${source}/main.ts`).href;
registerHooks({
  resolve(name, context, next) {
    if (name.startsWith("@/")) return next(pathToFileURL(`${source}/${name.slice(2)}.ts`).href, context);
    // Packages are those of the front end, whoever asks.
    return next(name, /^[./]|^(file|node):/.test(name) ? context : { ...context, parentURL: main });
  },
});
const kept = new Map();
globalThis.localStorage = {
  getItem: (key) => kept.get(key) ?? null,
  setItem: (key, value) => kept.set(key, value),
  removeItem: (key) => kept.delete(key),
};

const loaded = await import(pathToFileURL(module).href);
for await (const line of createInterface({ input: process.stdin })) {
  const { name, args } = JSON.parse(line);
  let answer;
  try {
    const value = typeof loaded[name] === "function" ? await loaded[name](...args) : loaded[name];
    answer = { value: value === undefined ? null : value, args };
  } catch (error) {
    answer = { error: `${error}` };
  }
  process.stdout.write(`${JSON.stringify(answer)}\n`);
}
