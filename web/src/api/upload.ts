import { keptCsrf } from "@/api/client";

/** What a call needs so that a file goes as it is. */
export function asFile(file: Blob) {
  return {
    headers: { "Content-Type": "application/octet-stream", "X-CSRFToken": keptCsrf() },
    body: file as unknown as string,
    bodySerializer: (body: unknown) => body as Blob,
  };
}
