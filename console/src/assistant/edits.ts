import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useCallback, useEffect, useRef, useState } from "react";
import { api, type Files } from "../api";

type Edit = { files: Files; base: string };

/** What was written and not kept yet, by assistant. It outlives a step to another page. */
const edits = new Map<string, Edit>();

addEventListener("beforeunload", (event) => {
  if (edits.size) event.preventDefault();
});

/** An assistant's files as they are edited here. `base` is the draft that they were made from, and
 * `generation` grows when other texts than the editor's own come in. */
export function useEdit(name: string) {
  const queries = useQueryClient();
  const draft = useQuery({ queryKey: ["draft", name], queryFn: () => api.draft(name) });
  const [edit, setEdit] = useState(edits.get(name));
  const [generation, setGeneration] = useState(0);
  const shown = useRef<Files | undefined>(edits.get(name)?.files);
  const awaited = useRef("");
  const told = draft.data;
  useEffect(() => {
    if (!told || edit) return;
    if (awaited.current && told.revision !== awaited.current) return;
    awaited.current = "";
    const same = JSON.stringify(shown.current) === JSON.stringify(told.files);
    shown.current = told.files;
    if (!same) setGeneration((before) => before + 1);
  }, [edit, told]);

  const write = useCallback(
    (file: string, text: string) => {
      const before = edits.get(name) ?? (told && { files: told.files, base: told.revision });
      if (!before) return;
      const next = { ...before, files: { ...before.files, [file]: text } };
      edits.set(name, next);
      shown.current = next.files;
      setEdit(next);
    },
    [name, told],
  );
  /** The edit is the draft now, or is given up for it. */
  const settle = useCallback(
    (kept?: { files: Files; revision: string }) => {
      edits.delete(name);
      awaited.current = kept?.revision ?? "";
      setEdit(undefined);
      if (kept) queries.setQueryData(["draft", name], kept);
      void queries.invalidateQueries({ queryKey: ["draft", name] });
    },
    [name, queries],
  );
  return {
    files: edit?.files ?? told?.files,
    base: edit?.base ?? told?.revision ?? "",
    changed: edit !== undefined,
    generation,
    error: draft.error,
    write,
    settle,
  };
}
