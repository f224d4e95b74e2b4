import { ElNotification } from "element-plus";
import "element-plus/es/components/notification/style/css";
import { h } from "vue";
import { api, take } from "@/api/client";
import { queryClient } from "@/api/queryClient";
import { router } from "@/app/router";

/** Says that something was retired, and takes it back by one click: nobody is asked before what can be undone. */
export async function offerUndo(kind: string, said: string): Promise<void> {
  const newest = (await take(api.GET("/api/v1/retired"))).find((one) => one.kind === kind);
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
            const { page } = await take(api.POST("/api/v1/retired/{id}/back", { params: { path: { id: newest.id } } }));
            await queryClient.invalidateQueries();
            await router.push(page);
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
