import { Popover } from "radix-ui";
import { ENDED, useTasks } from "../api/tasks";
import { Progress } from "../ui/Progress";

/** What is being worked on, wherever one is. */
export function Running() {
  const tasks = useTasks();
  const running = [...tasks.values()].filter((task) => !ENDED.has(task.state));
  if (!running.length) return null;
  return (
    <Popover.Root>
      <Popover.Trigger className="text-soft hover:text-act">
        <span aria-hidden>◔ </span>
        {running.length} running
      </Popover.Trigger>
      <Popover.Portal>
        <Popover.Content
          align="end"
          sideOffset={8}
          className="z-40 w-[440px] rounded border border-rule bg-sheet px-4 py-1 shadow-[0_6px_24px_rgb(0_0_0/0.10)]"
        >
          {running.map((task) => (
            <Progress key={task.id} task={task} />
          ))}
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  );
}
