import {
  Button as Press,
  TextField as Field,
  Input,
  Label,
  RadioGroup,
  TextArea,
} from "react-aria-components";
import styled from "styled-components";
import { colour, font } from "../theme";

/** A page of the console that is not the log. */
export const Sheet = styled.main`
  overflow-y: auto;
  padding: 1.4rem 1.8rem 4rem;
  background: ${colour.sheet};
  a {
    color: ${colour.ink};
    text-underline-offset: 3px;
  }
  h2 {
    margin: 0 0 0.3rem;
    font: 600 1.45rem/1.2 ${font.book};
  }
  h3 {
    margin: 2rem 0 0.5rem;
    font: 600 1.08rem/1.3 ${font.book};
  }
  > p {
    margin: 0 0 1.2rem;
    color: ${colour.faded};
    max-width: 46rem;
  }
`;

export const Table = styled.table`
  width: 100%;
  border-collapse: collapse;
  th {
    text-align: left;
    font-weight: 600;
    font-size: 0.87rem;
    color: ${colour.faded};
    padding: 0.3rem 0.9rem 0.3rem 0;
  }
  td {
    border-top: 1px solid ${colour.rule};
    padding: 0.55rem 0.9rem 0.55rem 0;
    vertical-align: top;
    overflow-wrap: anywhere;
  }
  /* What names a row stands in one line. */
  td:first-child {
    white-space: nowrap;
  }
`;

export const Button = styled(Press)`
  padding: 0.28rem 0.85rem;
  border: 1.5px solid ${colour.ink};
  background: transparent;
  color: ${colour.ink};
  cursor: pointer;
  &[data-hovered] {
    background: ${colour.wash};
  }
  &[data-disabled] {
    opacity: 0.5;
    cursor: default;
  }
`;

export const Row = styled.div`
  display: flex;
  flex-wrap: wrap;
  gap: 0.5rem 0.8rem;
  align-items: end;
`;

export const Code = styled.pre`
  margin: 0.4rem 0 0.8rem;
  padding: 0.7rem 0.9rem;
  max-height: 22rem;
  overflow: auto;
  background: ${colour.sea};
  border-left: 3px solid ${colour.rule};
  font:
    0.83rem/1.5 ui-monospace,
    "DejaVu Sans Mono",
    monospace;
  white-space: pre-wrap;
  overflow-wrap: anywhere;
`;

export const Mark = styled.span<{ $kind: "good" | "bad" | "plain" }>`
  font-weight: 600;
  color: ${(props) => ({ good: colour.kelp, bad: colour.buoy, plain: colour.faded })[props.$kind]};
`;

export const ErrorNote = styled.p`
  color: ${colour.buoy} !important;
`;

/** One of several, side by side; a span in it is their heading. */
export const Options = styled(RadioGroup)`
  display: flex;
  flex-wrap: wrap;
  gap: 0.2rem 0.9rem;
  > span {
    flex-basis: 100%;
    font-size: 0.87rem;
    color: ${colour.faded};
  }
  label {
    cursor: pointer;
  }
  label::before {
    content: "○ ";
  }
  label[data-selected]::before {
    content: "● ";
  }
  label[data-focus-visible] {
    outline: 2px solid ${colour.ink};
    outline-offset: 2px;
  }
`;

const TextBox = styled(Field)`
  display: grid;
  textarea {
    font:
      0.83rem/1.5 ui-monospace,
      "DejaVu Sans Mono",
      monospace;
    color: inherit;
    padding: 0.35rem 0.5rem;
    background: ${colour.sea};
    border: 1px solid ${colour.faded};
  }
  label {
    font-size: 0.87rem;
    color: ${colour.faded};
  }
  input {
    font: inherit;
    color: inherit;
    padding: 0.35rem 0.5rem;
    min-width: 14rem;
    background: ${colour.sea};
    border: 1px solid ${colour.faded};
  }
`;

export function Text(props: {
  label: string;
  value: string;
  onChange: (value: string) => void;
  type?: string;
  placeholder?: string;
}) {
  return (
    <TextBox value={props.value} onChange={props.onChange} type={props.type}>
      <Label>{props.label}</Label>
      <Input placeholder={props.placeholder} />
    </TextBox>
  );
}

/** Something to copy, with a button that does it. */
export function Copy({ text, what }: { text: string; what: string }) {
  return (
    <>
      <Code tabIndex={0} aria-label={what}>
        {text}
      </Code>
      <Button onPress={() => void navigator.clipboard.writeText(text)} aria-label={`Copy: ${what}`}>
        Copy
      </Button>
    </>
  );
}

/** Several lines of text, such as a file. */
export function Area(props: {
  label: string;
  value: string;
  onChange: (value: string) => void;
  rows: number;
}) {
  return (
    <TextBox value={props.value} onChange={props.onChange}>
      <Label>{props.label}</Label>
      <TextArea rows={props.rows} spellCheck={false} />
    </TextBox>
  );
}
