/** A frame on its canvas: alone, wiped with another, or what differs between two. */
import type { Look } from "../../app/store";
import type { Viewport } from "../../geometry/viewport";

/** `size` is that of the frame; `gain` how much brighter a difference is shown. */
export function drawPicture(
  ctx: CanvasRenderingContext2D,
  view: Viewport,
  { bottom, top }: { bottom: ImageBitmap; top: ImageBitmap | undefined },
  size: { width: number; height: number },
  { look, wipe, gain }: { look: Look; wipe: number; gain: number },
) {
  ctx.imageSmoothingEnabled = view.scale < 2.5;
  ctx.imageSmoothingQuality = "high";
  const w = size.width * view.scale;
  const h = size.height * view.scale;
  const put = (b: ImageBitmap) => ctx.drawImage(b, view.left, view.top, w, h);
  put(bottom);
  if (look === "wipe" && top) {
    ctx.save();
    ctx.beginPath();
    ctx.rect(view.left + w * wipe, view.top, w * (1 - wipe), h);
    ctx.clip();
    put(top);
    ctx.restore();
  }
  if (look === "difference") {
    const { clientWidth, clientHeight } = ctx.canvas;
    ctx.globalCompositeOperation = "difference";
    put(top ?? bottom);
    ctx.globalCompositeOperation = "lighter";
    for (let g = 1; g < gain; g *= 2) ctx.drawImage(ctx.canvas, 0, 0, clientWidth, clientHeight);
    ctx.globalCompositeOperation = "source-over";
  }
}
