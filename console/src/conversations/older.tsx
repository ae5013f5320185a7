import { Button } from "react-aria-components";
import styled from "styled-components";

/** Reads on, further back in time. */
export const Older = styled(Button)`
  border: 0;
  background: none;
  padding: 0;
  cursor: pointer;
  text-decoration: underline;
  text-underline-offset: 3px;
`;
