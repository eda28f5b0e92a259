void load_modules(void);
