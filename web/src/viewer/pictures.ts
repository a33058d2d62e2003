/**
 * Pictures by address: compressed bytes and decoded bitmaps, each bounded, the least recently used going first.
 * No React in here.
 */
const BITMAP_BYTES = 640_000_000;
const BLOB_BYTES = 700_000_000;
const PREFETCHES = 2;

interface Entry {
  blob?: Promise<Blob>;
  blobSize: number;
  bitmap?: ImageBitmap;
  pending?: Promise<ImageBitmap | null>;
}

export class Pictures {
  private entries = new Map<string, Entry>();
  private bitmapBytes = 0;
  private blobBytes = 0;
  private lastRefusal: string | null = null;
  private waiting: string[] = [];
  private fetching = 0;

  /** The picture if it is at hand, now. */
  peek(url: string): ImageBitmap | undefined {
    const entry = this.entries.get(url);
    if (entry?.bitmap) {
      this.entries.delete(url);
      this.entries.set(url, entry);
    }
    return entry?.bitmap;
  }

  has(url: string): boolean {
    return this.entries.has(url);
  }

  /** The reason the server gave when a picture could not be had last. */
  get refusal(): string | null {
    return this.lastRefusal;
  }

  /** The picture, fetched and decoded if need be; null when it cannot be had. */
  get(url: string): Promise<ImageBitmap | null> {
    const entry = this.entries.get(url) ?? { blobSize: 0 };
    this.entries.set(url, entry);
    if (entry.bitmap) return Promise.resolve(entry.bitmap);
    entry.pending ??= this.load(url, entry);
    return entry.pending;
  }

  /**
   * Fetch these when there is time, without decoding them. A new wish replaces the one before, and only a few are on
   * the way at once: a browser opens six connections, and the picture that is looked at must never wait for them.
   */
  prefetch(urls: string[]): void {
    this.waiting = urls.filter((u) => !this.entries.has(u));
    this.fetchNext();
  }

  private fetchNext(): void {
    while (this.fetching < PREFETCHES) {
      const url = this.waiting.shift();
      if (url === undefined) return;
      if (this.entries.has(url)) continue;
      const entry: Entry = { blobSize: 0 };
      this.entries.set(url, entry);
      this.fetching++;
      entry.blob = this.fetchBlob(url, entry);
      entry.blob
        .catch(() => this.entries.delete(url))
        .finally(() => {
          this.fetching--;
          this.fetchNext();
        });
    }
  }

  private async fetchBlob(url: string, entry: Entry): Promise<Blob> {
    const reply = await fetch(url);
    if (!reply.ok) {
      const said = (await reply.json().catch(() => null)) as { message?: string } | null;
      this.lastRefusal = said?.message ?? "This picture cannot be had.";
      throw new Error(this.lastRefusal);
    }
    const blob = await reply.blob();
    entry.blobSize = blob.size;
    this.blobBytes += blob.size;
    return blob;
  }

  private async load(url: string, entry: Entry): Promise<ImageBitmap | null> {
    try {
      entry.blob ??= this.fetchBlob(url, entry);
      const blob = await entry.blob;
      const bitmap = await createImageBitmap(blob);
      entry.bitmap = bitmap;
      this.bitmapBytes += bitmap.width * bitmap.height * 4;
      this.trim(url);
      return bitmap;
    } catch {
      this.entries.delete(url);
      return null;
    } finally {
      entry.pending = undefined;
    }
  }

  private trim(keep: string): void {
    for (const [url, entry] of this.entries) {
      if (this.bitmapBytes <= BITMAP_BYTES) break;
      if (url === keep || !entry.bitmap) continue;
      this.bitmapBytes -= entry.bitmap.width * entry.bitmap.height * 4;
      entry.bitmap.close();
      entry.bitmap = undefined;
    }
    for (const [url, entry] of this.entries) {
      if (this.blobBytes <= BLOB_BYTES) break;
      if (url === keep || entry.bitmap || entry.pending) continue;
      this.blobBytes -= entry.blobSize;
      this.entries.delete(url);
    }
  }
}

export const pictures = new Pictures();
