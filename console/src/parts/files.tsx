import styled from "styled-components";
import type { Turn } from "../api";
import { colour } from "../theme";

const Files = styled.ul`
  list-style: none;
  margin: 0.2rem 0;
  && {
    padding: 0;
  }
  a {
    color: inherit;
  }
  display: grid;
  gap: 0.3rem;
  img {
    display: block;
    max-width: 12rem;
    max-height: 9rem;
    border: 1px solid ${colour.rule};
  }
  small {
    color: ${colour.faded};
  }
`;

const SHOWN = ["image/png", "image/jpeg", "image/gif", "image/webp"];
const WHY: Record<string, string> = {
  "file-kind": "rejected: the assistant does not accept files of this kind",
  "file-too-big": "rejected: it is larger than the assistant accepts",
};

/** Pictures and files that came with a message. */
export function SentFiles({ files }: { files: Turn["files"] }) {
  if (!files?.length) return null;
  return (
    <Files aria-label="Files that came with it">
      {files.map((file, number) => (
        <li key={file.clip?.id ?? number}>
          {file.clip ? (
            <a href={`/api/clips/${encodeURIComponent(file.clip.id)}/sound`} download={file.name}>
              {SHOWN.includes(file.media_type) && (
                <img
                  src={`/api/clips/${encodeURIComponent(file.clip.id)}/sound`}
                  alt={file.caption || file.name || "A picture that came with it"}
                  loading="lazy"
                />
              )}
              {file.name || file.media_type}
            </a>
          ) : (
            <span>{file.name || file.media_type}</span>
          )}{" "}
          <small>
            {file.clip
              ? `${Math.ceil(file.clip.size / 1000)} kB`
              : WHY[file.refused] || file.refused}
          </small>
        </li>
      ))}
    </Files>
  );
}
