const LARGEST_SIDE = 2048; // px; about twice what is shown of artwork in a 1080p frame

/**
 * An SVG drawn by the browser, as a PNG file of the same name: the browser knows the format best, and the core reads
 * pictures only. Other files are handed back as they are.
 */
export async function rasterised(file: File): Promise<File> {
  if (!/\.svg$/i.test(file.name)) return file;
  const url = URL.createObjectURL(new Blob([await file.arrayBuffer()], { type: "image/svg+xml" }));
  try {
    const image = new Image();
    image.src = url;
    await image.decode();
    const width = image.naturalWidth || 512;
    const height = image.naturalHeight || 512;
    const scale = LARGEST_SIDE / Math.max(width, height);
    const canvas = document.createElement("canvas");
    canvas.width = Math.round(width * scale);
    canvas.height = Math.round(height * scale);
    canvas.getContext("2d")!.drawImage(image, 0, 0, canvas.width, canvas.height);
    const blob = await new Promise<Blob | null>((done) => canvas.toBlob(done, "image/png"));
    if (!blob) throw new Error("empty");
    return new File([blob], file.name.replace(/\.svg$/i, ".png"), { type: "image/png" });
  } catch {
    throw new Error(
      `'${file.name}' cannot be drawn; open it in a drawing program and export it as PNG or plain SVG.`,
    );
  } finally {
    URL.revokeObjectURL(url);
  }
}
