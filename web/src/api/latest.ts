/**
 * Sends the newest of a value's states: one at a time, in their order, leaving out those that were overtaken while
 * they waited. A page that closes sends what still waits.
 */
export function latest<T>(send: (value: T) => Promise<unknown>): (value: T) => Promise<void> {
  let waiting: { value: T } | null = null;
  let running: Promise<void> | null = null;

  const next = async () => {
    while (waiting) {
      const { value } = waiting;
      waiting = null;
      try {
        await send(value);
      } catch (fault) {
        if (!waiting) throw fault;
      }
    }
  };

  window.addEventListener("pagehide", () => {
    if (waiting) void send(waiting.value).catch(() => {});
    waiting = null;
  });

  return (value) => {
    waiting = { value };
    running ??= next().finally(() => (running = null));
    return running;
  };
}
