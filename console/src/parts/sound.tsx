import { useEffect, useMemo, useState } from "react";

/** The bytes that base64 writes, and an address in this page that plays them while it is open. */
export function useSound(base64: string): { blob: Blob; address: string } {
  const blob = useMemo(
    () => new Blob([Uint8Array.from(atob(base64), (each) => each.charCodeAt(0))]),
    [base64],
  );
  const [address, setAddress] = useState("");
  useEffect(() => {
    const made = URL.createObjectURL(blob);
    setAddress(made);
    return () => URL.revokeObjectURL(made);
  }, [blob]);
  return { blob, address };
}
