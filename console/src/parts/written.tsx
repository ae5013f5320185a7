import Markdown from "react-markdown";
import breaks from "remark-breaks";
import gfm from "remark-gfm";
import styled from "styled-components";
import { colour, font } from "../theme";

const Text = styled.div`
  font: 400 1.05rem/1.45 ${font.book};
  overflow-wrap: anywhere;
  p,
  ul,
  ol,
  pre,
  blockquote {
    margin: 0 0 0.45rem;
    font: inherit;
  }
  > :last-child {
    margin-bottom: 0;
  }
  h1,
  h2,
  h3,
  h4 {
    margin: 0.3rem 0;
    padding: 0;
    border: 0;
    font: 600 1.08rem/1.3 ${font.book};
  }
  table {
    border-collapse: collapse;
  }
  th,
  td {
    padding: 0.15rem 0.7rem 0.15rem 0;
    text-align: left;
    border-bottom: 1px solid ${colour.rule};
  }
  ul,
  ol {
    padding-left: 1.3rem;
  }
`;

/** A reply as it is meant to be read: its Markdown shown, not its signs. Nothing in it is run or
 * fetched: HTML stays text, and pictures become links. */
export function Written({ text }: { text: string }) {
  return (
    <Text>
      <Markdown
        remarkPlugins={[gfm, breaks]}
        components={{
          img: ({ src, alt }) => (
            <a href={typeof src === "string" ? src : undefined} rel="noreferrer" target="_blank">
              {alt || "A picture"}
            </a>
          ),
          a: ({ href, children }) => (
            <a href={href} rel="noreferrer" target="_blank">
              {children}
            </a>
          ),
        }}
      >
        {text}
      </Markdown>
    </Text>
  );
}
