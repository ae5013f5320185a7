import "@fontsource-variable/commissioner";
import "@fontsource-variable/literata";
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { GlobalStyle } from "../theme";
import { Guest } from "./guest";

createRoot(document.getElementById("root")!).render(
  <StrictMode>
    <GlobalStyle />
    <Guest />
  </StrictMode>,
);
