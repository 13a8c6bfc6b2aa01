// placeholder
int kestrum_demo_nothing();
