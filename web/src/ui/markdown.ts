import MarkdownIt from "markdown-it";

// html: false leaves what looks like HTML as text; markdown-it lets no script address through in links.
const reader = new MarkdownIt({ html: false, linkify: false, breaks: true });
const link = reader.renderer.rules.link_open ?? ((tokens, index, options, _, self) => self.renderToken(tokens, index, options));
reader.renderer.rules.link_open = (tokens, index, options, env, self) => {
  tokens[index]?.attrSet("rel", "noopener noreferrer");
  tokens[index]?.attrSet("target", "_blank");
  return link(tokens, index, options, env, self);
};
// A picture would be fetched from wherever it is.
reader.disable("image");

/** Markdown as HTML that holds nothing but what Markdown can say. */
export const render = (text: string): string => reader.render(text);
