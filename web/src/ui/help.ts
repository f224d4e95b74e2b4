import MarkdownIt from "markdown-it";

/** The documents that people are given, in the order in which they would be read. */
export const TOPICS = [
  ["readiness", "Readiness and the site line"],
  ["estate", "Estate"],
  ["protection", "Protection"],
  ["crosswalks", "Crosswalks and landings"],
  ["plans", "Plans"],
  ["runs", "Runs"],
  ["evidence", "Evidence"],
  ["people", "People and roles"],
  ["settings", "Settings"],
  ["messages", "Messages"],
  ["names", "Names"],
  ["front-doors", "Front doors"],
  ["programs", "For programs"],
  ["operations", "Operation"],
  ["scaling", "Scaling"],
  ["practice-lab", "Practice lab"],
  ["glossary", "Glossary"],
  ["security", "Security"],
  ["site-protocol", "Site protocol"],
  ["site-verbs", "Verbs of the site protocol"],
  ["agent-kit", "Agent kit"],
] as const;

const TEXTS = import.meta.glob<string>("../../../docs/*.md", { query: "?raw", import: "default" });
const titles = new Map<string, string>(TOPICS);
export const isTopic = (name: string) => titles.has(name);

/** The text of a topic; loaded when it is asked for. */
export async function textOf(topic: string): Promise<string> {
  return (await TEXTS[`../../../docs/${topic}.md`]?.()) ?? "";
}

/** As the anchors of headings are made: 'What a test does' is `what-a-test-does`. */
export const anchorOf = (heading: string) =>
  heading
    .toLowerCase()
    .replace(/[^\p{L}\p{N}\s-]/gu, "")
    .trim()
    .replace(/\s+/g, "-");

export interface Section {
  topic: string;
  title: string;
  anchor: string;
  text: string;
}

/** A document in its sections; what stands before the first heading of second order is the first. */
export function sectionsOf(topic: string, text: string): Section[] {
  const parts = text.split(/^(?=##? )/m).filter((part) => part.trim());
  return parts.map((part) => {
    const title = (/^##? (.*)$/m.exec(part)?.[1] ?? titles.get(topic) ?? topic).replaceAll("`", "");
    return { topic, title, anchor: anchorOf(title), text: part };
  });
}

const reader = new MarkdownIt({ html: false, linkify: false });
reader.renderer.rules.heading_open = (tokens, index, options, _, self) => {
  tokens[index]?.attrSet("id", anchorOf(tokens[index + 1]?.content ?? ""));
  return self.renderToken(tokens, index, options);
};
// A code, such as that of a finding, can be pointed at where it is named first.
reader.renderer.rules.code_inline = (tokens, index, _, env) => {
  const code = tokens[index]?.content ?? "";
  const named = (env?.named ?? new Set()) as Set<string>;
  const first = /^[\w.-]+$/.test(code) && !named.has(code);
  named.add(code);
  return `<code${first ? ` id="code-${code}"` : ""}>${reader.utils.escapeHtml(code)}</code>`;
};
reader.renderer.rules.table_open = () => '<div class="scroll" tabindex="0" role="group" aria-label="Table"><table>';
const fence = reader.renderer.rules.fence;
reader.renderer.rules.fence = (...given) => (fence?.(...given) ?? "").replace("<pre>", '<pre tabindex="0">');
reader.renderer.rules.table_close = () => "</table></div>";
const link = reader.renderer.rules.link_open ?? ((tokens, index, options, _, self) => self.renderToken(tokens, index, options));
reader.renderer.rules.link_open = (tokens, index, options, env, self) => {
  const token = tokens[index];
  const to = /^([\w-]+)\.md(#.*)?$/.exec(String(token?.attrGet("href") ?? ""));
  const href = String(token?.attrGet("href") ?? "");
  if (token && to?.[1] && isTopic(to[1])) token.attrSet("href", `/help/${to[1]}${to[2] ?? ""}`);
  else if (token && href === "plan-file.schema.json") token.attrSet("href", "/api/v1/plan-files/schema");
  // What is no topic here is for those who read the files.
  else if (token && !/^(https?:|#)/.test(href)) token.attrs = [];
  return link(tokens, index, options, env, self);
};
// Diagrams and pictures are files beside the text.
reader.disable("image");

export const renderHelp = (text: string): string => reader.render(text, { named: new Set<string>() });

/** All sections of all topics, loaded once. */
let every: Promise<Section[]> | undefined;
export function everySection(): Promise<Section[]> {
  every ??= Promise.all(TOPICS.map(async ([topic]) => sectionsOf(topic, await textOf(topic)))).then((found) => found.flat());
  return every;
}

/** The topic whose table of findings has a row for a code, or else none. */
export async function topicOfFinding(code: string): Promise<string | undefined> {
  for (const topic of ["plans", "crosswalks"]) if ((await textOf(topic)).match(new RegExp(`^\\|[^|]*\`${code}\``, "m"))) return topic;
  return undefined;
}
