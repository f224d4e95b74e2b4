import { ElNotification } from "element-plus";
import "element-plus/es/components/notification/style/css";
import { h } from "vue";
import { api, sentenceOf, take } from "@/api/client";
import { queryClient } from "@/api/queryClient";
import { router } from "@/app/router";

/** Says that something was retired, and takes it back by one click: nobody is asked before what can be undone.
 *
 * `name` is that under which it is kept. Where the list cannot be read it is retired all the same, and found in Settings.
 */
export async function offerUndo(kind: string, name: string, said: string): Promise<void> {
  const retired = await take(api.GET("/api/v1/retired")).catch(() => []);
  const newest = retired.find((one) => one.kind === kind && one.name === name);
  if (!newest) return;
  const shown = ElNotification({
    title: said,
    message: h("p", [
      h(
        "button",
        {
          class: "btn",
          onClick: async () => {
            shown.close();
            try {
              const { page } = await take(api.POST("/api/v1/retired/{id}/back", { params: { path: { id: newest.id } } }));
              await queryClient.invalidateQueries();
              await router.push(page);
            } catch (problem) {
              ElNotification({ title: "It could not be taken back", message: sentenceOf(problem), duration: 0, position: "bottom-right" });
            }
          },
        },
        "Undo",
      ),
      h("span", { class: "quiet" }, " It is kept under Settings, Retired."),
    ]),
    duration: 15_000,
    position: "bottom-right",
  });
}
