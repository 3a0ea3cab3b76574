/** A page that fails says so, and leaves the others alone. */
import { Component, type ReactNode } from "react";

import { Failure } from "../ui/parts";

export class Boundary extends Component<{ children: ReactNode }, { error: unknown }> {
  override state = { error: null };

  static getDerivedStateFromError(error: unknown) {
    return { error };
  }

  override render() {
    const again = () => this.setState({ error: null });
    return this.state.error === null ? this.props.children : <Failure error={this.state.error} retry={again} />;
  }
}
