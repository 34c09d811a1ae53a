import { Component, type ErrorInfo, type ReactNode } from 'react';
import styled from 'styled-components';
import { PlainButton } from './controls';

const Fault = styled.div`
  padding: 18px 20px;
  color: ${(p) => p.theme.text};
  p {
    margin: 0 0 10px;
  }
`;

type Props = { name: string; /** Where the page is: going elsewhere ends a fault. */ at?: string; children: ReactNode };

/** A panel whose faults stay in it: the rest of the page goes on, and it can be tried again. */
export class Panel extends Component<Props, { fault: string | null }> {
  state = { fault: null };

  static getDerivedStateFromError(error: unknown) {
    return { fault: error instanceof Error ? error.message : String(error) };
  }

  componentDidUpdate(before: Props) {
    if (before.at !== this.props.at && this.state.fault !== null) this.setState({ fault: null });
  }

  componentDidCatch(error: Error, info: ErrorInfo) {
    console.error(`${this.props.name} failed`, error, info.componentStack);
  }

  render() {
    if (this.state.fault === null) return this.props.children;
    return (
      <Fault role="alert">
        <p>{this.props.name} cannot be shown: {this.state.fault}</p>
        <PlainButton onPress={() => this.setState({ fault: null })}>Try again</PlainButton>
      </Fault>
    );
  }
}
