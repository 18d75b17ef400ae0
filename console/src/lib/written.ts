import MarkdownIt from 'markdown-it'

const reader = new MarkdownIt({ html: false, linkify: false, breaks: true })
reader.disable('image')
reader.renderer.rules.link_open = (tokens, index, options, _, self) => {
  tokens[index]!.attrSet('target', '_blank')
  tokens[index]!.attrSet('rel', 'noopener noreferrer')
  return self.renderToken(tokens, index, options)
}

/** A text in Markdown (CommonMark) as HTML. What looks like HTML stays text, and pictures are links: nothing is fetched from anywhere. */
export const written = (text: string): string => reader.render(text)
