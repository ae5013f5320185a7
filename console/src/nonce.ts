/** The page's nonce: what makes styles of its own welcome to the content security policy. */
export const nonce = () =>
  document.querySelector<HTMLMetaElement>('meta[property="csp-nonce"]')?.nonce ?? "";
