"use client";

import { useRouter } from "next/navigation";
import { useState } from "react";
import { callApi } from "./api";
import { TextField, useSending } from "./form";

/** The tags of a source: words that the rules of policies look at. */
export function Tags({ sourceId, tags }: { sourceId: string; tags: readonly string[] }) {
  const router = useRouter();
  const sending = useSending();
  const [text, setText] = useState(tags.join(", "));
  const wanted = text
    .split(",")
    .map((tag) => tag.trim())
    .filter(Boolean);
  return (
    <form
      className="mt-3 grid grid-cols-[minmax(0,1fr)_auto] items-end gap-2"
      onSubmit={(event) => {
        event.preventDefault();
        void sending.send(async () => {
          await callApi("PATCH", `/sources/${sourceId}`, { tags: wanted });
          router.refresh();
        });
      }}
    >
      <TextField
        label="Tags (comma-separated)"
        error={sending.errorOf("tags")}
        value={text}
        onChange={(event) => setText(event.target.value)}
      />
      <button
        type="submit"
        className="btn btn-plain"
        disabled={sending.busy || wanted.join() === tags.join()}
      >
        Save
      </button>
    </form>
  );
}
