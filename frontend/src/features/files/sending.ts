import type { QueryClient } from "@tanstack/react-query";
import { useSyncExternalStore } from "react";
import type { Upload } from "../../api/client";
import { sendFile } from "../../api/upload";
import { addFile, setQuery } from "./queries";

/** A file on its way into a set. */
export interface Sending {
  key: number;
  file: File;
  folder: string;
  share: number;
  error: string | undefined;
}

export interface Chosen {
  file: File;
  folder: string;
}

const AT_ONCE = 2; // the server reads two at a time

/** Files that are being sent to one set; they go on when the person looks at another page. */
class Queue {
  files: readonly Sending[] = [];
  private readonly listeners = new Set<() => void>();
  private readonly stops = new Map<number, AbortController>();
  private next = 1;

  constructor(
    private readonly set: number,
    private readonly queries: QueryClient,
  ) {}

  readonly listen = (listener: () => void) => {
    this.listeners.add(listener);
    return () => this.listeners.delete(listener);
  };

  add(chosen: Chosen[]): void {
    const made = chosen.map((one) => ({ ...one, key: this.next++, share: 0, error: undefined }));
    this.tell([...this.files, ...made]);
    this.fill();
  }

  again(key: number): void {
    this.change(key, { error: undefined, share: 0 });
    this.fill();
  }

  drop(key: number): void {
    this.stops.get(key)?.abort();
    this.stops.delete(key);
    this.tell(this.files.filter((one) => one.key !== key));
    this.fill();
  }

  private fill(): void {
    const waiting = this.files.filter((one) => !one.error && !this.stops.has(one.key));
    waiting.sort((a, b) => a.file.size - b.file.size); // no small file waits for a long one to be read
    for (const one of waiting.slice(0, AT_ONCE - this.stops.size)) void this.send(one);
  }

  private async send({ key, file, folder }: Sending): Promise<void> {
    const stop = new AbortController();
    this.stops.set(key, stop);
    try {
      const path = `/api/uploads?name=${encodeURIComponent(file.name)}`;
      const upload = await sendFile<Upload>(path, file, (share) => this.change(key, { share }), stop.signal);
      const found = await addFile(this.set, upload.id, folder);
      this.queries.setQueryData(setQuery(this.set).queryKey, found);
      this.tell(this.files.filter((one) => one.key !== key));
    } catch (error) {
      if (!stop.signal.aborted)
        this.change(key, { error: error instanceof Error ? error.message : String(error) });
    } finally {
      this.stops.delete(key);
      this.fill();
    }
  }

  private change(key: number, to: Partial<Sending>): void {
    this.tell(this.files.map((one) => (one.key === key ? { ...one, ...to } : one)));
  }

  private tell(files: readonly Sending[]): void {
    this.files = files;
    for (const listener of this.listeners) listener();
  }
}

const queues = new Map<number, Queue>();

/** The files on their way into a set. */
export function queueOf(set: number, queries: QueryClient): Queue {
  const queue = queues.get(set) ?? new Queue(set, queries);
  queues.set(set, queue);
  return queue;
}

export const useSending = (queue: Queue): readonly Sending[] =>
  useSyncExternalStore(queue.listen, () => queue.files);

/** All files that were dropped, those inside dropped folders too, with the folder of each. */
export async function droppedFiles(transfer: DataTransfer): Promise<Chosen[]> {
  const entries = [...transfer.items].map((item) => item.webkitGetAsEntry()).filter((one) => one !== null);
  if (entries.length === 0) return [...transfer.files].map((file) => ({ file, folder: "" }));
  return (await Promise.all(entries.map((entry) => filesIn(entry, "")))).flat();
}

async function filesIn(entry: FileSystemEntry, folder: string): Promise<Chosen[]> {
  if (entry.isFile) {
    const file = await new Promise<File>((resolve, reject) =>
      (entry as FileSystemFileEntry).file(resolve, reject),
    );
    return [{ file, folder }];
  }
  const reader = (entry as FileSystemDirectoryEntry).createReader();
  const inside: FileSystemEntry[] = [];
  // A reader gives a hundred entries at a time, and none at the end.
  for (;;) {
    const some = await new Promise<FileSystemEntry[]>((resolve, reject) =>
      reader.readEntries(resolve, reject),
    );
    if (some.length === 0) break;
    inside.push(...some);
  }
  const name = folder ? `${folder}/${entry.name}` : entry.name;
  return (await Promise.all(inside.map((one) => filesIn(one, name)))).flat();
}

/** Files that were chosen, of a folder with the folder of each. */
export const chosenFiles = (files: File[]): Chosen[] =>
  files.map((file) => ({ file, folder: file.webkitRelativePath.split("/").slice(0, -1).join("/") }));
