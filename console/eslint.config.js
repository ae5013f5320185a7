import js from "@eslint/js";
import hooks from "eslint-plugin-react-hooks";
import typescript from "typescript-eslint";

export default typescript.config(
  js.configs.recommended,
  ...typescript.configs.recommended,
  {
    plugins: { "react-hooks": hooks },
    rules: {
      "react-hooks/rules-of-hooks": "error",
      "react-hooks/exhaustive-deps": "warn",
      "@typescript-eslint/no-unused-vars": ["error", { argsIgnorePattern: "^_" }],
    },
  },
  {
    files: ["src/channels/microphone.js"],
    languageOptions: {
      globals: {
        AudioWorkletProcessor: "readonly",
        sampleRate: "readonly",
        registerProcessor: "readonly",
      },
    },
  },
  { ignores: ["src/contract.d.ts"] },
);
