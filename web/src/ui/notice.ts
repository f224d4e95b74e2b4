import { ElNotification } from "element-plus";
import "element-plus/es/components/notification/style/css";

/** A sentence in the corner, for what has no place of its own on the page. */
export function notice(title: string, message: string): void {
  ElNotification({ title, message, duration: 8000, position: "bottom-right" });
}
