import createClient from "openapi-fetch";
import type { components, paths } from "./schema";

export type Schema = components["schemas"];

/** The shape of every refusal, as `api/errors.py` writes it. */
interface Fault {
  code: string;
  message: string;
  detail: Record<string, unknown>;
}

export const api = createClient<paths>({ baseUrl: "" });

/** A refusal of the server: one plain sentence, a code, and what it knows. */
export class Refusal extends Error {
  constructor(
    message: string,
    readonly code: string,
    readonly detail: Record<string, unknown> = {},
  ) {
    super(message);
  }
}

/** The data of a reply, or its refusal thrown. */
export async function taken<T>(reply: Promise<{ data?: T; error?: unknown }>): Promise<T> {
  let answer;
  try {
    answer = await reply;
  } catch {
    throw new Refusal(
      "The server does not answer. Start it again with ./run; nothing that was saved is lost.",
      "offline",
    );
  }
  if (answer.data !== undefined) return answer.data;
  const fault = (answer.error ?? {}) as Partial<Fault>;
  throw new Refusal(
    fault.message ?? "The server refused this without saying why.",
    fault.code ?? "unknown",
    fault.detail,
  );
}

/** Send a file's bytes, with progress from 0 to 1. */
export function sendFile(token: string, file: File, onProgress: (share: number) => void): Promise<void> {
  return new Promise((resolve, reject) => {
    const request = new XMLHttpRequest();
    request.open("PUT", `/api/uploads/${token}/files/${encodeURIComponent(file.name)}`);
    request.upload.onprogress = (e) => onProgress(e.total ? e.loaded / e.total : 0);
    request.onload = () => {
      if (request.status < 300) return resolve();
      try {
        const fault = JSON.parse(request.responseText) as Fault;
        reject(new Refusal(fault.message, fault.code, fault.detail));
      } catch {
        reject(new Refusal("The upload was refused.", "unknown"));
      }
    };
    request.onerror = () => reject(new Refusal("The upload broke off; send the file again.", "broken_off"));
    request.send(file);
  });
}
