import { useSyncExternalStore } from "react";

const drafts = new Map<string, string>();
const followers = new Set<() => void>();

function subscribe(follower: () => void) {
  followers.add(follower);
  return () => void followers.delete(follower);
}

/** Keeps what is being written to somebody, wherever else the reader goes meanwhile. */
export function keepDraft(conversation: string, text: string) {
  if (text) drafts.set(conversation, text);
  else drafts.delete(conversation);
  for (const follower of followers) follower();
}

export const draftOf = (conversation: string) => drafts.get(conversation) ?? "";

/** What is being written in a conversation. */
export function useDraft(conversation: string) {
  return useSyncExternalStore(subscribe, () => draftOf(conversation));
}
