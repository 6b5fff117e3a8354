/** Where a page breaks, the shell stays and says so; the next page, or another try, starts clean. */
import { Component, type ErrorInfo, type ReactNode } from "react";
import { t } from "./text";

export class Boundary extends Component<{ children: ReactNode }, { error: Error | null }> {
  override state: { error: Error | null } = { error: null };

  static getDerivedStateFromError(error: unknown) {
    return { error: error instanceof Error ? error : new Error(String(error)) };
  }

  override componentDidCatch(error: Error, info: ErrorInfo) {
    console.error(error, info.componentStack);
  }

  override render() {
    const { error } = this.state;
    if (!error) return this.props.children;
    return (
      <div className="px-5 py-4" role="alert">
        <h1 className="text-[20px] leading-6 font-semibold">{t("This page could not be drawn")}</h1>
        <p className="mt-1 text-ink2">
          {t(
            "Nothing was changed by that. Try again; if it stays, the console may be older than the service: load it anew.",
          )}
        </p>
        <pre className="mt-2 font-mono text-[12.5px] whitespace-pre-wrap">{error.message}</pre>
        <div className="mt-3 flex gap-2">
          <button type="button" className="btn btn-main" onClick={() => this.setState({ error: null })}>
            {t("Try again")}
          </button>
          <button type="button" className="btn" onClick={() => window.location.reload()}>
            {t("Load anew")}
          </button>
        </div>
      </div>
    );
  }
}
